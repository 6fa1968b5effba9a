package password

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"
)

func TestHashAndCheck(t *testing.T) {
	hash, err := People.Hash(t.Context(), "lighthouse-2026")
	if err != nil || !strings.HasPrefix(hash, "$argon2id$v=19$m=32768,t=3,p=1$") {
		t.Fatalf("%q, %v", hash, err)
	}
	for clear, want := range map[string]bool{"lighthouse-2026": true, "lighthouse-2027": false, "": false,
		strings.Repeat("x", MaxLength+1): false} {
		if ok, err := People.Check(t.Context(), hash, clear); err != nil || ok != want {
			t.Errorf("%.20q: %v, %v", clear, ok, err)
		}
	}
	for _, bad := range []string{"", "plain", "$argon2id$v=19$m=99999999,t=3,p=1$AAAA$AAAA",
		"$argon2id$v=19$m=32768,t=0,p=1$AAAA$AAAA", "$argon2id$v=18$m=32768,t=3,p=1$AAAA$AAAA",
		"$argon2id$v=19$m=32768,t=3,p=1$!$AAAA", "$argon2id$v=19$m=32768,t=3,p=1$AAAA$"} {
		if ok, err := People.Check(t.Context(), bad, "x"); ok || err == nil {
			t.Errorf("%q: %v, %v", bad, ok, err)
		}
	}
	if _, err := People.Hash(t.Context(), ""); err == nil {
		t.Error("an empty password is hashed")
	}
}

// Whoever guesses keeps only others of his kind waiting, and nobody for longer than they care to wait.
func TestSlotsAreApart(t *testing.T) {
	hash, err := Operators.Hash(t.Context(), "lighthouse-2026")
	if err != nil {
		t.Fatal(err)
	}
	for range cap(People) {
		People <- struct{}{}
	}
	Strangers <- struct{}{}
	defer func() {
		for range cap(People) {
			<-People
		}
		<-Strangers
	}()
	if ok, err := Operators.Check(t.Context(), hash, "lighthouse-2026"); !ok || err != nil {
		t.Errorf("an operator waits for guesses: %v %v", ok, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	for name, s := range map[string]Slots{"people": People, "strangers": Strangers} {
		if ok, err := s.Check(ctx, hash, "lighthouse-2026"); ok || !errors.Is(err, ErrBusy) {
			t.Errorf("%s: %v %v", name, ok, err)
		}
	}
}
