package account

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

// bring imports accounts, and fails the test if that cannot be.
func bring(t *testing.T, k *Keeper, text string, check, partial bool) results.Import {
	t.Helper()
	n := k.count()
	report, err := k.Import(context.Background(), text, check, partial, "o.brandt", func() string {
		n++
		return fmt.Sprint("i", n)
	}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return report
}

func TestImport(t *testing.T) {
	k, s := keeper(t)
	ctx, now := context.Background(), time.Now()
	hash, err := password.People.Hash(ctx, "rope-and-anchor")
	if err != nil {
		t.Fatal(err)
	}
	k.Save(ctx, Account{ID: "old", Name: "k.nance", Display: "Kaia Nance", Groups: []string{"Crew"}, Enabled: true,
		ChangedAt: now}, "gangway-and-rope")
	k.Save(ctx, Account{ID: "em", Name: "emergency", Enabled: true, Emergency: "client.site is north", ChangedAt: now},
		"gangway-and-rope")
	text := "name,groups,enabled,expires,hash,password\n" +
		"k.nance,Crew;Deck,yes,,,\n" +
		"s.lodge,Deck,,2027-03-01," + `"` + hash + `"` + ",\n" +
		"o.hale,,no,,,quay-light-and-tide\n" +
		"emergency,Crew,,,,\n" +
		"nobody,,,,,\n" +
		"two words,,,,,x\n" +
		"both,,,,\"" + hash + "\",x\n" +
		"costly,,,,\"$argon2id$v=19$m=2000000,t=3,p=1$c2FsdHNhbHQ$aGFzaGhhc2hoYXNoaGFzaA\",\n" +
		"maybe,,perhaps,,,x\n" +
		"S.Lodge,,,,,again\n"
	r := bring(t, k, text, false, false)
	if r.Done || r.Added != 2 || r.Changed != 1 || r.Wrong != 7 || k.count() != 2 {
		t.Fatalf("%+v with %d accounts", r, k.count())
	}
	var said []string
	for _, line := range r.Lines {
		if line.What == "wrong" {
			said = append(said, fmt.Sprint(line.Number, " ", line.Field))
		}
	}
	if got := strings.Join(said, ", "); got != "5 name, 6 password, 7 name, 8 password, 9 hash, 10 enabled, 11 name" {
		t.Errorf("wrong are %s", got)
	}
	if r = bring(t, k, text, true, true); r.Done || k.count() != 2 {
		t.Error("a check stores something")
	}
	if r = bring(t, k, text, false, true); !r.Done || k.count() != 4 || k.Unhashed() != 1 {
		t.Fatalf("the good lines: %+v, %d to be hashed", r, k.Unhashed())
	}
	check := func(k *Keeper, name, clear string, want reason.Code) {
		t.Helper()
		if got, _ := k.CheckPassword(ctx, name, clear, now); got != want {
			t.Errorf("%s with %q gives %s, wanted %s", name, clear, got, want)
		}
	}
	check(k, "k.nance", "gangway-and-rope", reason.OK)
	check(k, "s.lodge", "rope-and-anchor", reason.OK)
	check(k, "o.hale", "quay-light-and-tide", reason.OK)
	check(k, "o.hale", "quay-light", reason.PasswordWrong)
	if p := k.Person("k.nance", now); fmt.Sprint(p.Groups) != "[Crew Deck]" || p.Display != "Kaia Nance" {
		t.Errorf("what the line left out: %+v", p)
	}
	if p := k.Person("o.hale", now); p.State != reason.PersonDisabled {
		t.Errorf("%+v", p)
	}
	if r = bring(t, k, "name,groups\nk.nance,Crew;Deck\n", false, false); r.Same != 1 {
		t.Errorf("the same again: %+v", r)
	}
	// A start before the password was hashed, and a change of the account meanwhile: it is kept.
	again, err := Open(ctx, s, seal.New(make([]byte, 32)))
	if err != nil || again.Unhashed() != 1 {
		t.Fatalf("%d to be hashed after a start, %v", again.Unhashed(), err)
	}
	a := *again.Get("o.hale")
	a.Display = "Oda Hale"
	if _, err := again.Save(ctx, a, ""); err != nil || again.Unhashed() != 1 {
		t.Fatalf("%d to be hashed after a change, %v", again.Unhashed(), err)
	}
	check(again, "o.hale", "quay-light-and-tide", reason.OK)
	limited, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	go again.HashPending(limited)
	for again.Unhashed() > 0 && limited.Err() == nil {
		time.Sleep(10 * time.Millisecond)
	}
	check(again, "o.hale", "quay-light-and-tide", reason.OK)
	if last := again.Get("o.hale"); last.proof != "" || !strings.HasPrefix(last.hash, "$argon2id$") ||
		last.Display != "Oda Hale" {
		t.Errorf("hashed it is %+v", last)
	}
}

// An account whose password is still to be hashed keeps more, once that is asked for.
func TestKeepMoreOfAnUnhashedPassword(t *testing.T) {
	k, _ := keeper(t)
	bring(t, k, "name,password\no.hale,quay-light-and-tide\n", false, false)
	a := *k.Get("o.hale")
	a.Keeps = config.KeepsNTHash
	if _, err := k.Save(context.Background(), a, ""); err != nil {
		t.Fatal(err)
	}
	if why, _ := k.Usable("o.hale", config.NeedsNTHash); why != reason.OK || k.Unhashed() != 0 {
		t.Errorf("%s, %d to be hashed", why, k.Unhashed())
	}
	if got, _ := k.CheckPassword(context.Background(), "o.hale", "quay-light-and-tide", time.Now()); got != reason.OK {
		t.Errorf("the password gives %s", got)
	}
	r := bring(t, k, "name,password\no.hale,another\n", false, false)
	if r.Wrong != 1 {
		t.Errorf("a password for an account that keeps an NT hash: %+v", r)
	}
}

// An account of which nothing can be opened holds up nobody else whose password is still to be hashed.
func TestADamagedAccountHoldsUpNoOther(t *testing.T) {
	k, s := keeper(t)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	bring(t, k, "name,password\na.first,x\nb.second,quay-light\n", false, false)
	bad := k.Get("a.first").row()
	bad.Proof = k.Get("b.second").row().Proof // sealed for another account
	if err := s.SaveAccount(ctx, bad); err != nil {
		t.Fatal(err)
	}
	if err := k.Reload(ctx, bad.ID); err != nil {
		t.Fatal(err)
	}
	go k.HashPending(ctx)
	for k.Unhashed() > 1 && ctx.Err() == nil {
		time.Sleep(10 * time.Millisecond)
	}
	if k.Get("b.second").pending() || !k.Get("a.first").pending() {
		t.Errorf("%d passwords are still to be hashed", k.Unhashed())
	}
	for _, clear := range []string{"x", "quay-light", ""} {
		if got, _ := k.CheckPassword(ctx, "a.first", clear, time.Now()); got == reason.OK {
			t.Errorf("%q admits somebody whose password cannot be opened", clear)
		}
	}
}

func TestPages(t *testing.T) {
	k, _ := keeper(t)
	var b strings.Builder
	b.WriteString("name,person,password\n")
	for i := range 1000 {
		fmt.Fprintf(&b, "p%03d,Person %d of the crew,x\n", i, i%10)
	}
	bring(t, k, b.String(), false, false)
	var seen []string
	for after, more := "", true; more; {
		var page []*Account
		if page, more = k.Page("person 7", after, 30); len(page) == 0 {
			t.Fatal("an empty page")
		}
		for _, a := range page {
			seen = append(seen, a.Name)
		}
		after = page[len(page)-1].ID
	}
	if len(seen) != 100 || seen[0] != "p007" || seen[99] != "p997" {
		t.Errorf("%d accounts, from %s on", len(seen), seen[0])
	}
	a := *k.Get("p500")
	a.Name = "renamed"
	if _, err := k.Save(context.Background(), a, ""); err != nil {
		t.Fatal(err)
	}
	if err := k.Remove(context.Background(), k.Get("p501").ID); err != nil {
		t.Fatal(err)
	}
	if n := len(k.List("")); n != 999 || k.Get("p500") != nil || len(k.List("p50")) != 8 || k.Get("renamed") == nil {
		t.Errorf("%d accounts after a new name and a removal", n)
	}
	var fault *FieldError
	if _, err := k.Import(context.Background(), "person\nx\n", false, false, "", nil, time.Now()); !errors.As(err,
		&fault) {
		t.Errorf("a file without names: %v", err)
	}
}

func FuzzImport(f *testing.F) {
	f.Add("name,groups,password\na,b;c,d\n")
	f.Add("name;hash;enabled;expires\na;$argon2id$v=19$m=8,t=1,p=1$c2FsdHNhbHQ$aGFzaGhhc2hoYXNoaGFzaA;no;2027-01-01\n")
	k := &Keeper{box: seal.New(make([]byte, 32)), byName: map[string]*Account{}, byID: map[string]*Account{}}
	f.Fuzz(func(t *testing.T, text string) {
		k.Import(context.Background(), text, true, true, "", func() string { return "x" }, time.Now())
	})
}
