package factor

import (
	"cmp"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/reason"
)

// However a code is written, it is the code; what is none stays none.
func TestPlain(t *testing.T) {
	for typed, want := range map[string]string{"123 456": "123456", "123-456": "123456", " 12 34 56 ": "123456",
		"\u200f123456\u200e": "123456", "１２３４５６": "123456", "١٢٣٤٥٦": "123456", "𝟏𝟐𝟑𝟜𝟝𝟞": "123456", "१२३४५६": "123456",
		"ABCD-efgh": "abcd-efgh", "": "", "\u202e": "", "12345": "12345", "²³": "²³"} {
		if got := plain(typed); got != want {
			t.Errorf("%q is read as %q, not %q", typed, got, want)
		}
	}
}

// Whoever goes on guessing waits longer each time, also after a restart, until a right code.
func TestLocksGrow(t *testing.T) {
	dir := t.TempDir()
	w := enrolled(t, dir)
	w.later(5)
	for round, wait := range append(lockTimes, lockTimes[3]) {
		for range maxWrong {
			w.wants(reason.FactorWrong, "000000")
		}
		again := *w
		again.Keeper = open(t, dir)
		w = &again
		w.now = w.now.Add(wait - time.Second)
		w.wants(reason.FactorLocked, w.at(0))
		w.now = w.now.Add(2 * time.Second)
		if round == 4 {
			w.wants(reason.OK, w.at(0))
		}
	}
	for range maxWrong {
		w.wants(reason.FactorWrong, "000000")
	}
	w.now = w.now.Add(5*time.Minute + time.Second)
	w.wants(reason.OK, w.at(0))
}

// counted is a device that counts, with the secret of RFC 4226, appendix D.
func counted(t *testing.T, dir string, counter int64) *Keeper {
	t.Helper()
	k := open(t, dir)
	if _, err := k.Import(t.Context(), Request{Store: "LANTERN", Name: "n.pryce", Counted: true, Counter: counter,
		Seed: "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ", By: "o.brandt"}, time.Now()); err != nil {
		t.Fatal(err)
	}
	return k
}

// vectors are those of RFC 4226, appendix D.
var vectors = []string{"755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583", "399871",
	"520489"}

// A device that counts: each code once, in order, some may be passed over, and one that was pressed very often is found
// again by two codes in a row. A restart changes nothing.
func TestCodesThatCount(t *testing.T) {
	dir := t.TempDir()
	k := counted(t, dir, 0)
	wants := func(want reason.Code, code string) string {
		t.Helper()
		got, _, detail := k.Check(t.Context(), "LANTERN", "n.pryce", code, "hh-core-1", time.Now())
		if got != want {
			t.Errorf("%s came to %s (%s), not %s", code, got, detail, want)
		}
		return detail
	}
	wants(reason.OK, vectors[0])
	wants(reason.FactorUsed, vectors[0])
	wants(reason.OK, vectors[1])
	wants(reason.OK, vectors[4]) // two presses were not used
	wants(reason.FactorUsed, vectors[3])
	k = open(t, dir)
	wants(reason.FactorUsed, vectors[4])
	for _, code := range vectors[5:] {
		wants(reason.OK, code)
	}
	at := func(step int64) string {
		code, err := k.find("LANTERN", "n.pryce").devices[0].code(step)
		if err != nil {
			t.Fatal(err)
		}
		return code
	}
	if detail := wants(reason.FactorWrong, at(60)); !strings.Contains(detail, "after 50 presses") {
		t.Error(detail)
	}
	wants(reason.FactorWrong, at(70)) // not the next one
	wants(reason.OK, at(71))
	wants(reason.FactorUsed, at(70))
	wants(reason.FactorWrong, at(400))
	for _, r := range []Request{{Counter: 5}, {Counted: true, Counter: -1}, {Counted: true, Counter: 1 << 60},
		{Counted: true, Digits: 10}, {Counted: true, Seed: "AAAA"}} {
		r.Store, r.Name, r.Seed = "LANTERN", "x", cmp.Or(r.Seed, "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ")
		if _, err := k.Import(t.Context(), r, time.Now()); err == nil {
			t.Errorf("%+v was taken", r)
		}
	}
	if _, err := k.Import(t.Context(), Request{Store: "LANTERN", Name: "x"}, time.Now()); err == nil {
		t.Error("a device without a seed was taken")
	}
}

// RFC 6238, appendix B: the codes of eight digits at its times.
func TestCodesOfTheStandard(t *testing.T) {
	for _, c := range []struct {
		algorithm, seed string
		at              int64
		want            string
	}{{"SHA1", "12345678901234567890", 59, "94287082"}, {"SHA1", "12345678901234567890", 20000000000, "65353130"},
		{"SHA256", "12345678901234567890123456789012", 1111111109, "68084774"},
		{"SHA512", "1234567890123456789012345678901234567890123456789012345678901234", 1234567890, "93441116"}} {
		k := kept{Token: Token{Algorithm: c.algorithm, Digits: 8}, secrets: secrets{
			Seed: noPadding.EncodeToString([]byte(c.seed))}}
		if got, err := k.code(c.at / 30); err != nil || got != c.want {
			t.Errorf("%s at %d: %s, %v", c.algorithm, c.at, got, err)
		}
	}
}
