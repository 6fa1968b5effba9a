package factor

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

// second adds another device, with another number of digits, and returns its codes.
func (w *world) second(replaces bool) (id string, at func() string, recovery []string) {
	w.Helper()
	offer, err := w.Enrol(context.Background(), Request{Store: "LANTERN", Name: "n.pryce", Label: "tablet",
		Digits: 8, Replaces: replaces, By: "n.pryce"}, w.now)
	if err != nil {
		w.Fatal(err)
	}
	at = func() string {
		t := kept{Token: Token{Algorithm: "SHA1", Digits: 8}, secrets: secrets{Seed: offer.Seed}}
		code, err := t.code(w.now.Unix() / 30)
		if err != nil {
			w.Fatal(err)
		}
		return code
	}
	if recovery, err = w.Confirm(context.Background(), offer.Token.ID, at(), w.now); err != nil {
		w.Fatal(err)
	}
	return offer.Token.ID, at, recovery
}

// Whoever has two devices uses either; wrong codes and recovery codes are of the person, not of a device.
func TestSeveralDevicesOfOnePerson(t *testing.T) {
	dir := t.TempDir()
	w := enrolled(t, dir)
	before := w.Of("LANTERN", "n.pryce")
	id, at, recovery := w.second(false)
	if len(recovery) != 0 || w.Of("LANTERN", "n.pryce") == before {
		t.Errorf("recovery codes were made anew (%v), or an invitation would be good twice", recovery)
	}
	w.later(1)
	w.wants(reason.OK, w.at(0))
	w.wants(reason.OK, at())
	w.wants(reason.FactorUsed, at())
	w.wants(reason.FactorUsed, w.at(0))
	for _, c := range [][3]string{{"harbour" + w.at(0), "harbour", w.at(0)}, {"harbour" + at(), "harbour", at()}} {
		if password, code := w.Split("LANTERN", "n.pryce", c[0], w.now); password != c[1] || code != c[2] {
			t.Errorf("%q became %q and %q", c[0], password, code)
		}
	}
	w.later(1)
	w.Keeper = open(t, dir)
	for n := range maxWrong {
		w.wants(reason.FactorWrong, []string{"000000", "00000000"}[n%2])
	}
	w.wants(reason.FactorLocked, at())
	w.Keeper = open(t, dir)
	w.wants(reason.FactorLocked, w.at(0))
	if err := w.Release(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	w.wants(reason.OK, w.recovery[2])
	if err := w.Remove(t.Context(), w.id, w.now); err != nil { // the phone was lost
		t.Fatal(err)
	}
	w.wants(reason.FactorWrong, w.at(0))
	w.wants(reason.OK, at())
	w.Keeper = open(t, dir)
	if list := w.OfPerson("lantern", "N.PRYCE", w.now); len(list) != 1 || list[0].RecoveryLeft != 7 {
		t.Errorf("kept: %+v", list)
	}
	if err := w.Remove(t.Context(), id, w.now); err != nil || w.Enrolled("LANTERN", "n.pryce", w.now) {
		t.Errorf("removing the last one: %v", err)
	}
	rows, err := w.store.FactorTokens(t.Context())
	if err != nil || len(rows) != 0 {
		t.Errorf("left: %+v, %v", rows, err)
	}
	for n := range maxDevices + 1 {
		_, err := w.Import(t.Context(), Request{Store: "LANTERN", Name: "x",
			Seed: "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQO" + string(rune('A'+n)) + "Q"}, w.now)
		if (err != nil) != (n == maxDevices) {
			t.Errorf("device %d: %v", n+1, err)
		}
	}
}

// One picture pairs one phone, however many take it at once: whoever looked over a shoulder gets nothing.
func TestOnePicturePairsOnePhone(t *testing.T) {
	w := &world{T: t, Keeper: open(t, t.TempDir()), now: time.Now()}
	paired := func(many int) (right, used int) {
		still := w.Of("LANTERN", "n.pryce")
		came := make(chan error)
		for range many {
			go func() {
				private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
				if err != nil {
					came <- err
					return
				}
				public, _ := x509.MarshalPKIXPublicKey(&private.PublicKey)
				sum := sha256.Sum256([]byte("picture"))
				a, b, err := ecdsa.Sign(rand.Reader, private, sum[:])
				signature := make([]byte, 64)
				a.FillBytes(signature[:32])
				b.FillBytes(signature[32:])
				if err == nil {
					_, _, err = w.PairPhone(context.Background(), Request{Store: "LANTERN", Name: "n.pryce",
						Still: &still}, public, []byte("picture"), signature, w.now)
				}
				came <- err
			}()
		}
		for range many {
			switch err := <-came; {
			case err == nil:
				right++
			case errors.Is(err, ErrUsed):
				used++
			default:
				t.Error(err)
			}
		}
		return right, used
	}
	for round := range 3 {
		if right, used := paired(8); right != 1 || used != 7 {
			t.Errorf("%d phones were paired by one picture, %d were too late", right, used)
		}
		if list := w.OfPerson("LANTERN", "n.pryce", w.now); len(list) != round+1 || list[0].RecoveryLeft != 8 {
			t.Errorf("kept: %+v", list)
		}
	}
}

// Of several who set up a device by one invitation, in the same moment, one adds it: an invitation is good once.
func TestOneInvitationAddsOneDevice(t *testing.T) {
	w := &world{T: t, Keeper: open(t, t.TempDir()), now: time.Now()}
	for round := range 3 {
		still := w.Of("LANTERN", "n.pryce")
		came := make(chan error)
		const many = 6
		for range many {
			offer, err := w.Enrol(t.Context(), Request{Store: "LANTERN", Name: "n.pryce"}, w.now)
			if err != nil {
				t.Fatal(err)
			}
			code, err := Code(offer.Seed, w.now)
			if err != nil {
				t.Fatal(err)
			}
			go func() {
				_, err := w.ConfirmStill(context.Background(), offer.Token.ID, code, still, w.now)
				came <- err
			}()
		}
		right := 0
		for range many {
			switch err := <-came; {
			case err == nil:
				right++
			case !errors.Is(err, ErrUsed) && !errors.Is(err, ErrNone):
				t.Error(err)
			}
		}
		if right != 1 || len(strings.Fields(w.Of("LANTERN", "n.pryce"))) != round+1 {
			t.Errorf("%d devices were added by one invitation, %q count", right, w.Of("LANTERN", "n.pryce"))
		}
	}
}

func TestTemporaryCodes(t *testing.T) {
	dir := t.TempDir()
	w := &world{T: t, Keeper: open(t, dir), now: time.Now()}
	give := func(long time.Duration, once bool) string {
		t.Helper()
		code, err := w.GiveTemporary(t.Context(), "LANTERN", "n.pryce", "Nia Pryce", w.now.Add(long), once, w.now)
		if err != nil {
			t.Fatal(err)
		}
		return code
	}
	first := give(time.Hour, false)
	w.wants(reason.OK, strings.ToUpper(first))
	w.wants(reason.OK, first)
	w.Keeper = open(t, dir)
	w.wants(reason.OK, first)
	if list := w.List("nia"); len(list) != 1 || list[0].Kind != KindTemporary || list[0].TemporaryUntil.IsZero() {
		t.Errorf("the list has %+v", list)
	}
	if password, code := w.Split("LANTERN", "n.pryce", "harbour"+first, w.now); password != "harbour" || code != first {
		t.Errorf("it became %q and %q", password, code)
	}
	once := give(time.Hour, true)
	w.wants(reason.FactorWrong, first)
	w.wants(reason.OK, once)
	w.Keeper = open(t, dir)
	w.wants(reason.FactorNotEnrolled, once)
	last := give(time.Hour, false)
	if err := w.EndTemporary(t.Context(), w.List("nia")[0].ID); err != nil {
		t.Fatal(err)
	}
	w.wants(reason.FactorNotEnrolled, last)
	last = give(time.Hour, false)
	w.now = w.now.Add(time.Hour)
	w.wants(reason.FactorNotEnrolled, last)
	for _, long := range []time.Duration{-time.Hour, 0, maxTemporary + time.Minute} {
		if _, err := w.GiveTemporary(t.Context(), "LANTERN", "n.pryce", "", w.now.Add(long), false,
			w.now); err == nil {
			t.Errorf("one for %s was made", long)
		}
	}
}

// What was stored while each person had one device goes on: its recovery codes, and its lock.
func TestTokensFromBefore(t *testing.T) {
	dir := t.TempDir()
	w := enrolled(t, dir)
	row, err := w.store.FactorTokenByID(t.Context(), w.id)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := json.Marshal(parts{secrets{Seed: w.seed}, common{Recovery: []string{"2345-6789", "abcd-efgh"}, Locks: 1,
		Locked: w.now.Add(lockTimes[0]).UnixMilli()}})
	row.Secrets = string(w.box.Seal(Place(w.id), string(text)))
	both := w.find("LANTERN", "n.pryce").id()
	if err := w.store.AddFactorTokens(t.Context(), []store.FactorToken{row}, []string{both}); err != nil {
		t.Fatal(err)
	}
	w.Keeper = open(t, dir)
	w.wants(reason.FactorLocked, "2345-6789")
	w.now = w.now.Add(lockTimes[0])
	w.wants(reason.OK, w.at(0))
	w.Keeper = open(t, dir)
	w.wants(reason.FactorUsed, w.at(0))
	w.wants(reason.OK, "abcd-efgh")
	w.wants(reason.FactorWrong, "abcd-efgh")
	w.Keeper = open(t, dir)
	w.wants(reason.OK, "2345-6789")
	w.wants(reason.FactorWrong, "2345-6789")
}
