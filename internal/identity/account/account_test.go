package account

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

func keeper(t *testing.T) (*Keeper, *store.Store) {
	t.Helper()
	s, err := store.Open(context.Background(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	k, err := Open(context.Background(), s, seal.New(make([]byte, 32)))
	if err != nil {
		t.Fatal(err)
	}
	return k, s
}

func TestAccountsComeAndGo(t *testing.T) {
	k, s := keeper(t)
	ctx, now := context.Background(), time.Now()
	a, err := k.Save(ctx, Account{ID: "1", Name: " k.nance ", Display: "Kaia Nance", Mail: "k@x",
		Groups: []string{" Crew ", "", "Crew", "Deck"}, Enabled: true, ChangedAt: now, ChangedBy: "o.brandt"},
		"gangway-and-rope")
	if err != nil || a.Name != "k.nance" || fmt.Sprint(a.Groups) != "[Crew Deck]" {
		t.Fatalf("%+v, %v", a, err)
	}
	p := k.Person("K.NANCE", now)
	if p == nil || p.State != reason.OK || p.ID != "1" || p.Attributes["mail"][0] != "k@x" || !p.InGroup("crew") {
		t.Errorf("found %+v", p)
	}
	for clear, want := range map[string]reason.Code{"gangway-and-rope": reason.OK, "wrong": reason.PasswordWrong,
		"": reason.PasswordEmpty} {
		for range 2 {
			if got, _ := k.CheckPassword(context.Background(), "k.nance", clear, now); got != want {
				t.Errorf("%q gives %s", clear, got)
			}
		}
	}
	// A change keeps the password unless a new one is given, and a new one ends what was remembered of the old.
	a.Display = "Kaia"
	if a, err = k.Save(ctx, *a, ""); err != nil {
		t.Fatal(err)
	}
	if got, _ := k.CheckPassword(context.Background(), "k.nance", "gangway-and-rope", now); got != reason.OK {
		t.Errorf("after a change the password gives %s", got)
	}
	if a, err = k.Save(ctx, *a, "another-good-one"); err != nil {
		t.Fatal(err)
	}
	if got, _ := k.CheckPassword(context.Background(), "k.nance", "gangway-and-rope",
		now); got != reason.PasswordWrong {
		t.Errorf("the old password gives %s", got)
	}
	a.Name = "kaia"
	if _, err = k.Save(ctx, *a, ""); err != nil || k.Person("k.nance", now) != nil || k.Person("kaia", now) == nil {
		t.Errorf("renaming: %v", err)
	}
	again, err := Open(ctx, s, seal.New(make([]byte, 32)))
	if err != nil || again.Get("1") == nil || again.Get("kaia") == nil || again.Get("nobody") != nil {
		t.Fatalf("read again: %v", err)
	}
	if got, _ := again.CheckPassword(context.Background(), "kaia", "another-good-one", now); got != reason.OK {
		t.Errorf("after a restart the password gives %s", got)
	}
	if err := again.Remove(ctx, "1"); err != nil || again.Person("kaia", now) != nil {
		t.Errorf("removed: %v", err)
	}
	if err := again.Remove(ctx, "1"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	if got, _ := again.CheckPassword(context.Background(), "kaia", "another-good-one",
		now); got != reason.PersonUnknown {
		t.Errorf("a removed account gives %s", got)
	}
}

func TestStatesOfAccounts(t *testing.T) {
	k, _ := keeper(t)
	ctx, now := context.Background(), time.Now()
	for name, a := range map[string]Account{"off": {}, "old": {Enabled: true, Expires: now.Add(-time.Minute)},
		"soon": {Enabled: true, Expires: now.Add(time.Minute)}} {
		a.ID, a.Name = name, name
		if _, err := k.Save(ctx, a, "some-password"); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]reason.Code{"off": reason.PersonDisabled, "old": reason.PersonExpired,
		"soon": reason.OK} {
		if got := k.Person(name, now).State; got != want {
			t.Errorf("%s is %s", name, got)
		}
	}
	if got := k.Person("soon", now.Add(time.Minute)).State; got != reason.PersonExpired {
		t.Errorf("at its end the account is %s", got)
	}
	if list := k.List("o"); len(list) != 3 || list[0].Name != "off" || len(k.List("OL")) != 1 {
		t.Errorf("listed %v", list)
	}
}

func TestBadAccounts(t *testing.T) {
	k, _ := keeper(t)
	ctx := context.Background()
	if _, err := k.Save(ctx, Account{ID: "1", Name: "taken", Enabled: true}, "some-password"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		a               Account
		password, field string
	}{
		{Account{ID: "2"}, "x", "name"}, {Account{ID: "2", Name: "a@b"}, "x", "name"}, {Account{ID: "2", Name: `A\b`},
			"x", "name"}, {Account{ID: "2", Name: strings.Repeat("x", 101)}, "x", "name"},
		{Account{ID: "2", Name: "TAKEN"}, "x", "name"}, {Account{ID: "2", Name: "new"}, "", "password"},
		{Account{ID: "2", Name: "new"}, strings.Repeat("x", 2000), "password"},
		{Account{ID: "2", Name: "new", Display: strings.Repeat("x", 201)}, "x", "display"},
		{Account{ID: "2", Name: "new", Groups: many(201)}, "x", "groups"},
	} {
		_, err := k.Save(ctx, c.a, c.password)
		var f *FieldError
		if !errors.As(err, &f) || f.Field != c.field || f.Remedy == "" {
			t.Errorf("%.20q: %v, wanted a fault in %s", c.a.Name, err, c.field)
		}
	}
	if len(k.List("")) != 1 {
		t.Error("something was added")
	}
}

func many(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprint("group ", i)
	}
	return out
}

func BenchmarkVerifiedPassword(b *testing.B) {
	s, err := store.Open(context.Background(), b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	k, _ := Open(context.Background(), s, seal.New(make([]byte, 32)))
	k.Save(context.Background(), Account{ID: "1", Name: "k.nance", Enabled: true}, "gangway-and-rope")
	b.ReportAllocs()
	for b.Loop() {
		if code, _ := k.CheckPassword(context.Background(), "k.nance", "gangway-and-rope",
			time.Now()); code != reason.OK {
			b.Fatal(code)
		}
	}
}

// A whole fleet that comes back at once with the same password costs one argon2id, right or wrong, and nobody gets the
// answer to somebody else's.
func TestTheSamePasswordAtOnceIsCheckedOnce(t *testing.T) {
	k, _ := keeper(t)
	ctx, now := context.Background(), time.Now()
	if _, err := k.Save(ctx, Account{ID: "1", Name: "k.nance", Enabled: true, ChangedAt: now, ChangedBy: "o.brandt"},
		"gangway-and-rope"); err != nil {
		t.Fatal(err)
	}
	k.CheckPassword(context.Background(), "k.nance", "wrong", now)
	begun := time.Now()
	k.CheckPassword(context.Background(), "k.nance", "wrong", now)
	single := time.Since(begun)
	var all sync.WaitGroup
	begun = time.Now()
	for i := range 200 {
		clear, want := "gangway-and-rope", reason.OK
		if i%2 == 1 {
			clear, want = "gangway-or-rope", reason.PasswordWrong
		}
		all.Go(func() {
			if got, _ := k.CheckPassword(context.Background(), "k.nance", clear, now); got != want {
				t.Errorf("%q gives %s", clear, got)
			}
		})
	}
	all.Wait()
	if took := time.Since(begun); took > 30*single {
		t.Errorf("200 checks of two passwords took %s, one takes %s", took, single)
	}
}
