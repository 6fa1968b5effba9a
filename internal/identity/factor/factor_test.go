package factor

import (
	"context"
	"encoding/base32"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

// The vectors of RFC 6238 appendix B.
func TestVectors(t *testing.T) {
	seeds := map[string]string{"SHA1": "12345678901234567890", "SHA256": "12345678901234567890123456789012",
		"SHA512": strings.Repeat("1234567890", 6) + "1234"}
	for _, c := range []struct {
		at         int64
		sha1       string
		s256, s512 string
	}{
		{59, "94287082", "46119246", "90693936"}, {1111111109, "07081804", "68084774", "25091201"},
		{1111111111, "14050471", "67062674", "99943326"},
		{1234567890, "89005924", "91819424", "93441116"}, {2000000000, "69279037", "90698825", "38618901"},
		{20000000000, "65353130", "77737706", "47863826"},
	} {
		for algorithm, want := range map[string]string{"SHA1": c.sha1, "SHA256": c.s256, "SHA512": c.s512} {
			k := kept{Token: Token{Algorithm: algorithm, Digits: 8},
				secrets: secrets{Seed: base32.StdEncoding.EncodeToString([]byte(seeds[algorithm]))}}
			if got, err := k.code(c.at / 30); got != want || err != nil {
				t.Errorf("%s at %d: %s %v, wanted %s", algorithm, c.at, got, err, want)
			}
		}
	}
}

// world is a keeper over a store in a directory of its own, and a person who is enrolled.
type world struct {
	*testing.T
	*Keeper
	seed, id string
	recovery []string
	now      time.Time
}

func open(t *testing.T, dir string) *Keeper {
	t.Helper()
	s, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	box, err := seal.Open(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	k, err := Open(context.Background(), s.PeopleFactors(), box, ident.NewSource(0))
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func enrolled(t *testing.T, dir string) *world {
	t.Helper()
	w := &world{T: t, Keeper: open(t, dir), now: time.Unix(1_800_000_000, 0)}
	offer, err := w.Enrol(context.Background(), Request{Store: "LANTERN", Name: "n.pryce", Label: "phone",
		By: "o.brandt"}, w.now)
	if err != nil {
		t.Fatal(err)
	}
	if w.Enrolled("LANTERN", "n.pryce", w.now) {
		t.Error("it counts before a code was seen")
	}
	if !strings.HasPrefix(offer.URI, "otpauth://totp/Tollgate%20Key:n.pryce?") || !strings.Contains(offer.URI,
		"secret="+offer.Seed) || len(offer.QR) < 30 || len(offer.QR) != len(offer.QR[0]) {
		t.Errorf("the offer is %+v", offer)
	}
	w.seed, w.id = offer.Seed, offer.Token.ID
	if w.recovery, err = w.Confirm(context.Background(), w.id, w.at(0), w.now); err != nil ||
		len(w.recovery) != recoveryMany {
		t.Fatalf("confirming: %v %v", w.recovery, err)
	}
	return w
}

// at is the code of a clock that is off by some steps.
func (w *world) at(steps int) string {
	code, err := Code(w.seed, w.now.Add(time.Duration(steps)*30*time.Second))
	if err != nil {
		w.Fatal(err)
	}
	return code
}

func (w *world) wants(want reason.Code, typed string) string {
	w.Helper()
	code, _, detail := w.Check(context.Background(), "lantern", "N.Pryce", typed, "hh-core-1", w.now)
	if code != want {
		w.Errorf("%q came to %s (%s), wanted %s", typed, code, detail, want)
	}
	return detail
}

// later goes on by some steps.
func (w *world) later(steps int) { w.now = w.now.Add(time.Duration(steps) * 30 * time.Second) }

func TestACodeCountsOnce(t *testing.T) {
	dir := t.TempDir()
	w := enrolled(t, dir)
	w.wants(reason.FactorUsed, w.at(0)) // it confirmed the enrolment
	w.later(1)
	w.wants(reason.FactorUsed, w.at(-1))
	w.wants(reason.OK, w.at(0)[:3]+" "+w.at(0)[3:])
	w.wants(reason.FactorUsed, w.at(0))
	w.wants(reason.OK, w.at(1)) // a clock a little ahead, which is learned
	w.wants(reason.FactorMissing, " ")
	again := *w
	again.Keeper = open(t, dir) // after a restart too
	again.wants(reason.FactorUsed, w.at(1))
	again.later(1)
	again.wants(reason.FactorUsed, again.at(0)) // that step was taken a moment ago
	again.wants(reason.OK, again.at(1))
	if got := again.Get(w.id); got.Skew != 1 || got.UsedOn != "hh-core-1" || got.UsedAt.IsZero() {
		t.Errorf("kept: %+v", got)
	}
	if code, _, _ := w.Check(context.Background(), "local", "n.pryce", w.at(0), "",
		w.now); code != reason.FactorNotEnrolled {
		t.Errorf("somebody of that name in another store: %s", code)
	}
}

func TestAClockThatIsOff(t *testing.T) {
	w := enrolled(t, t.TempDir())
	w.later(40)
	if detail := w.wants(reason.FactorWrong, w.at(-8)); !strings.Contains(detail, "4m0s behind ours") {
		t.Errorf("it says %q", detail)
	}
	if detail := w.wants(reason.OK, w.at(-7)); !strings.Contains(detail, "second code in a row") {
		t.Errorf("it says %q", detail)
	}
	w.later(1)
	w.wants(reason.OK, w.at(-7))
	w.later(10)
	w.wants(reason.FactorWrong, w.at(5))
	w.wants(reason.FactorWrong, w.at(9)) // not the next one
	w.wants(reason.FactorWrong, w.at(30))
}

// A code that was taken while our clock was an hour ahead does not have every other refused for an hour, and counts no
// second time when its hour comes; nor do those from before the clock jumped, also after a restart.
func TestOurClockWasAhead(t *testing.T) {
	dir := t.TempDir()
	w := enrolled(t, dir)
	w.later(3)
	before := w.at(0)
	w.wants(reason.OK, before)
	right := w.now
	w.later(120)
	w.wants(reason.OK, w.at(0))
	ahead := w.at(0)
	w.now = right
	w.Keeper = open(t, dir)
	w.wants(reason.FactorUsed, before)
	w.later(1)
	w.wants(reason.FactorUsed, before)
	w.wants(reason.OK, w.at(0))
	for range 118 {
		w.later(1)
		w.wants(reason.OK, w.at(0))
	}
	w.later(1)
	if w.at(0) != ahead {
		t.Fatal("the time of that code has not come")
	}
	w.wants(reason.FactorUsed, ahead)
	w.later(1)
	w.wants(reason.OK, w.at(0))

	for range maxWrong { // locked while the clock was a year ahead
		w.now = w.now.AddDate(1, 0, 0)
		w.wants(reason.FactorWrong, "000000")
		w.now = w.now.AddDate(-1, 0, 0)
	}
	w.wants(reason.FactorLocked, w.at(0))
	w.later(int(lockTime(0)/(30*time.Second)) + 1)
	w.wants(reason.OK, w.at(0))
}

func TestASlowHandIsNoSlowClock(t *testing.T) {
	w := enrolled(t, t.TempDir())
	for n, want := range []int64{0, 0, -1} {
		w.later(3)
		w.wants(reason.OK, w.at(-1))
		if got := w.Get(w.id).Skew; got != want {
			t.Errorf("after %d codes that came late the skew is %d, wanted %d", n+1, got, want)
		}
	}
	w.later(3)
	w.wants(reason.OK, w.at(0)) // the hand was slow after all
	if got := w.Get(w.id).Skew; got != 0 {
		t.Errorf("the skew is %d", got)
	}
}

func TestWrongCodesLock(t *testing.T) {
	w := enrolled(t, t.TempDir())
	w.later(1)
	for range maxWrong {
		w.wants(reason.FactorWrong, "000000")
	}
	if got := w.Get(w.id); got.LockedUntil.IsZero() {
		t.Errorf("kept: %+v", got)
	}
	w.wants(reason.FactorLocked, w.at(0))
	w.wants(reason.FactorLocked, w.recovery[0])
	if err := w.Release(context.Background(), w.id); err != nil {
		t.Fatal(err)
	}
	w.wants(reason.OK, w.at(0))
	for range maxWrong {
		w.wants(reason.FactorWrong, "12345")
	}
	w.now = w.now.Add(lockTime(0))
	w.wants(reason.OK, w.at(0))
}

func TestRecoveryCodes(t *testing.T) {
	w := enrolled(t, t.TempDir())
	if detail := w.wants(reason.OK, strings.ToUpper(w.recovery[3])); !strings.Contains(detail, "7 are left") {
		t.Errorf("it says %q", detail)
	}
	w.wants(reason.FactorWrong, w.recovery[3])
	fresh, err := w.Recover(context.Background(), w.id)
	if err != nil || len(fresh) != recoveryMany {
		t.Fatal(fresh, err)
	}
	w.wants(reason.FactorWrong, w.recovery[0])
	w.wants(reason.OK, fresh[0])
	seen := map[string]bool{}
	for range 200 {
		c := recoveryCode()
		if len(c) != recoveryLen || c[4] != '-' || seen[c] {
			t.Fatalf("made %q", c)
		}
		seen[c] = true
	}
}

func TestSplit(t *testing.T) {
	w := enrolled(t, t.TempDir())
	for _, c := range [][3]string{{"harbour123456", "harbour", "123456"}, {"harbour", "harbour", ""},
		{"123456", "123456", ""}, {"a1234567", "a1", "234567"}, {"harbour12345", "harbour12345", ""},
		{"gate-" + w.recovery[0], "gate-", w.recovery[0]}, {"blue-gate-lamp", "blue-gate-lamp", ""}, {"", "", ""},
		{"h\xff123456", "h\xff", "123456"}} {
		if password, code := w.Split("LANTERN", "n.pryce", c[0], w.now); password != c[1] || code != c[2] {
			t.Errorf("%q became %q and %q", c[0], password, code)
		}
	}
	if password, code := w.Split("LANTERN", "nobody", "harbour123456", w.now); password != "harbour123456" ||
		code != "" {
		t.Errorf("somebody without a token: %q and %q", password, code)
	}
}

func TestRests(t *testing.T) {
	w := enrolled(t, t.TempDir())
	w.Given("LANTERN", "n.pryce", "hh-core-1", "192.0.2.7", w.now)
	for _, c := range []struct {
		client, from string
		within       time.Duration
		later        time.Duration
		want         bool
	}{{"HH-core-1", "192.0.2.7", time.Hour, time.Minute, true}, {"hh-core-1", "192.0.2.8", time.Hour, time.Minute,
		false}, {"hh-router-1", "192.0.2.7", time.Hour, time.Minute, false},
		{"hh-core-1", "192.0.2.7", time.Minute, time.Minute, false}, {"hh-core-1", "", time.Hour, 0, false},
		{"hh-core-1", "192.0.2.7", 0, 0, false}} {
		if _, got := w.GivenLately("lantern", "N.Pryce", c.client, c.from, c.within,
			w.now.Add(c.later)); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
	if err := w.Remove(context.Background(), w.id, w.now); err != nil {
		t.Fatal(err)
	}
	if _, got := w.GivenLately("LANTERN", "n.pryce", "hh-core-1", "192.0.2.7", time.Hour, w.now); got ||
		w.Enrolled("LANTERN", "n.pryce", w.now) {
		t.Error("it outlives its removal")
	}
}

func TestEnrolmentIsReplacedOnlyWhenConfirmed(t *testing.T) {
	w := enrolled(t, t.TempDir())
	next := func() *Offer {
		offer, err := w.Enrol(context.Background(), Request{Store: "LANTERN", Name: "n.pryce",
			Seed: "gezd gnbv gy3t qojq gezd gnbv gy3t qojq", Replaces: true, By: "o.brandt"}, w.now)
		if err != nil {
			t.Fatal(err)
		}
		return offer
	}
	first, second := next(), next()
	if w.Get(first.Token.ID) != nil || len(w.List("pryce")) != 2 || len(w.List("nobody")) != 0 {
		t.Errorf("kept: %+v", w.List(""))
	}
	w.later(2)
	w.wants(reason.OK, w.at(0))
	if _, err := w.Confirm(context.Background(), second.Token.ID, "000000", w.now); err == nil {
		t.Error("a wrong code confirms")
	}
	w.seed = second.Seed
	w.wants(reason.FactorWrong, w.at(0))
	if _, err := w.Confirm(context.Background(), second.Token.ID, w.at(0), w.now); err != nil {
		t.Fatal(err)
	}
	if list := w.List(""); len(list) != 1 || list[0].ID != second.Token.ID {
		t.Errorf("kept: %+v", list)
	}
	w.later(1)
	w.wants(reason.OK, w.at(0))
	for _, c := range []struct{ field, says string }{{"algorithm", "md5"}, {"digits", "digits"}, {"period", "period"},
		{"seed", "short"}} {
		r := Request{Store: "LANTERN", Name: "x"}
		switch c.field {
		case "algorithm":
			r.Algorithm = "MD5"
		case "digits":
			r.Digits = 4
		case "period":
			r.Period = 3600
		case "seed":
			r.Seed = "GEZDGNBV"
		}
		if _, err := w.Enrol(context.Background(), r, w.now); err == nil || !strings.HasPrefix(err.Error(), c.field+
			":") {
			t.Errorf("%s: %v", c.field, err)
		}
	}
}

func FuzzSplitAndCheck(f *testing.F) {
	f.Add("harbour123456")
	f.Add("abcd-efgh")
	k := newKeeper(nil, nil, nil)
	t := &kept{Token: Token{Store: "local", Name: "x", Algorithm: "SHA1", Digits: 6, Period: 30, Confirmed: true},
		secrets: secrets{Seed: "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"}, before: common{Recovery: []string{"2345-6789"}}}
	k.keep(t)
	now := time.Unix(1_800_000_000, 0)
	f.Fuzz(func(tt *testing.T, typed string) {
		password, code := k.Split("local", "x", typed, now)
		if password+code != typed {
			tt.Errorf("%q became %q and %q", typed, password, code)
		}
		t.of.common.Locked = 0
		t.of.take(plain(typed), now)
	})
}
