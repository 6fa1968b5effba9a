package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

func open(t testing.TB) *Store {
	t.Helper()
	s, err := Open(context.Background(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func openAttempts(t testing.TB) *Attempts {
	t.Helper()
	dir := t.TempDir()
	s, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	a, err := OpenAttempts(t.Context(), dir, ident.NewSource(0), s, record.Retention{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close(); s.Close() })
	return a
}

func TestAttemptsAreWrittenAndFiltered(t *testing.T) {
	s, ctx := openAttempts(t), context.Background()
	begun := time.Now().Add(-time.Hour)
	for i := range 1000 {
		verdict := "admitted"
		if i%4 == 0 {
			verdict = "refused"
		}
		s.Add(&Attempt{At: begun.Add(time.Duration(i) * time.Second), Verdict: verdict, Reason: "ok",
			Client: fmt.Sprintf("switch-%d", i%3), Who: fmt.Sprintf("user%d", i%50),
			Sent:    fmt.Sprintf("LANTERN\\User%d", i%50),
			Display: "Person 50%_x", MAC: fmt.Sprintf("00-00-5E-00-53-%02X", i%100), Facts: []byte(`{"sent":"x"}`)})
	}
	s.Flush(ctx)
	if s.Len() != 1000 || s.Lost() != 0 {
		t.Fatalf("%d written, %d lost", s.Len(), s.Lost())
	}
	cases := []struct {
		name string
		f    Filter
		n    int
	}{
		{"all", Filter{}, 1000}, {"user", Filter{User: "USER7"}, 20}, {"pattern", Filter{User: "user4*"}, 220},
		{"percent is no wildcard", Filter{User: "user%"}, 0}, {"verdict", Filter{Verdict: "refused"}, 250},
		{"MAC", Filter{MAC: "00-00-5E-00-53-07"}, 10}, {"client", Filter{Client: "switch-1"}, 333},
		{"text", Filter{Text: "antern\\user1"}, 220}, {"text with wildcards of SQL", Filter{Text: "50%_"}, 1000},
		{"nothing", Filter{Text: "zzz"}, 0},
		{"since", Filter{Span: Span{Since: begun.Add(990 * time.Second)}}, 10},
		{"until", Filter{Span: Span{Until: begun.Add(10 * time.Second)}}, 10}, {"hostile", Filter{User: "' OR 1=1 --"},
			0},
	}
	for _, c := range cases {
		c.f.Limit = 2000
		got, err := s.Find(ctx, c.f)
		if err != nil || len(got.Items) != c.n || got.Next != 0 {
			t.Errorf("%s: %d, %v; wanted %d", c.name, len(got.Items), err, c.n)
		}
	}
	first, _ := s.Find(ctx, Filter{Limit: 10})
	second, _ := s.Find(ctx, Filter{Limit: 10, Span: Span{Before: first.Next}})
	if first.Next != first.Items[9].ID || second.Items[0].ID >= first.Items[9].ID {
		t.Error("the second page overlaps the first")
	}
	newer, _ := s.Find(ctx, Filter{Limit: 5, Span: Span{After: first.Items[9].ID}})
	if len(newer.Items) != 5 || newer.Items[0].ID != first.Items[8].ID {
		t.Errorf("after the cursor come %v", newer.Items)
	}
	one, err := s.Get(ctx, first.Items[0].ID)
	if err != nil || string(one.Facts) != `{"sent":"x"}` {
		t.Errorf("one attempt: %s, %v", one.Facts, err)
	}
	if _, err := s.Get(ctx, 1); !errors.Is(err, ErrNotFound) {
		t.Errorf("a missing attempt gives %v", err)
	}
	minutes, err := s.CountByMinute(ctx, begun)
	total := 0
	for _, m := range minutes {
		total += m.Admitted + m.Refused
	}
	if err != nil || total != 1000 || minutes[len(minutes)-1].Minute != begun.Unix()/60 {
		t.Errorf("%d counted by minute, %v", total, err)
	}
	if n, err := s.Count(ctx, begun.Add(10*time.Second), begun.Add(300*time.Second)); err != nil || n != 290 {
		t.Errorf("%d counted in a part of the time, %v", n, err)
	}
}

func TestPublishIsAllOrNothing(t *testing.T) {
	s, ctx := open(t), context.Background()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	object := func(id, body string) Object {
		if body == "" {
			return Object{Kind: "client", ID: id}
		}
		return Object{Kind: "client", ID: id, Body: []byte(body)}
	}
	r := Revision{Number: 1, At: 1, Operator: "o.brandt", Note: "first", Changes: []byte("[]")}
	must(s.SaveDraft(ctx, []DraftObject{{object("a", "a1"), "o.brandt", 1}}))
	must(s.Publish(ctx, r, []Object{object("a", "a1"), object("b", "b1")}))
	if d, err := s.Draft(ctx); err != nil || len(d) > 0 {
		t.Errorf("after a publish the draft holds %+v, %v", d, err)
	}
	must(s.SaveDraft(ctx, []DraftObject{{object("a", ""), "o.brandt", 2}, {object("b", "b2"), "o.brandt", 2}}))
	must(s.SaveDraft(ctx, []DraftObject{{object("b", "b3"), "s.lodge", 3}}))
	if err := s.Publish(ctx, r, []Object{object("b", "lost")}); err == nil {
		t.Fatal("a revision is overwritten")
	}
	d, err := s.Draft(ctx)
	if err != nil || len(d) != 2 || d[0].Body != nil || string(d[1].Body) != "b3" || d[1].Operator != "s.lodge" {
		t.Errorf("the draft of a failed publish stayed: %+v, %v", d, err)
	}
	r.Number = 2
	must(s.Publish(ctx, r, []Object{object("a", ""), object("b", "b3"), object("c", "c1")}))
	for number, want := range map[int]string{1: "a=a1 b=b1 ", 2: "b=b3 c=c1 "} {
		objects, err := s.Objects(ctx, number)
		got := ""
		for _, o := range objects {
			got += o.ID + "=" + string(o.Body) + " "
		}
		if err != nil || got != want {
			t.Errorf("revision %d is %s, %v", number, got, err)
		}
	}
	if got, err := s.Revision(ctx, 0); err != nil || got.Number != 2 || got.Note != "first" {
		t.Errorf("newest %+v, %v", got, err)
	}
	if _, err := s.Revision(ctx, 7); !errors.Is(err, ErrNotFound) {
		t.Errorf("a missing revision gives %v", err)
	}
}

func TestOperators(t *testing.T) {
	s, ctx := open(t), context.Background()
	if err := s.AddOperator(ctx, Operator{ID: "1", Name: "o.brandt", Hash: "h", Role: "owner"}, true); err != nil {
		t.Fatal(err)
	}
	if err := s.AddOperator(ctx, Operator{ID: "2", Name: "x", Hash: "h"}, true); !errors.Is(err, ErrTaken) {
		t.Errorf("a second first operator gives %v", err)
	}
	if err := s.AddOperator(ctx, Operator{ID: "2", Name: "O.Brandt", Hash: "h"}, false); !errors.Is(err, ErrTaken) {
		t.Errorf("the same name gives %v", err)
	}
	if err := s.RemoveOperator(ctx, "1"); !errors.Is(err, ErrNotFound) {
		t.Errorf("the last operator is removed: %v", err)
	}
	if err := s.AddKey(ctx, Key{ID: "k", Kind: "token", Hash: []byte("h"), Operator: "1"}); err != nil {
		t.Fatal(err)
	}
	s.AddOperator(ctx, Operator{ID: "3", Name: "n", Hash: "h", Role: "auditor"}, false)
	if err := s.RemoveOperator(ctx, "1"); !errors.Is(err, ErrNotFound) {
		t.Errorf("the last owner is removed: %v", err)
	}
	if err := s.SetRole(ctx, "1", "auditor", ""); !errors.Is(err, ErrNotFound) {
		t.Errorf("the last owner is none any more: %v", err)
	}
	if err := s.SetRole(ctx, "3", "owner", ""); err != nil {
		t.Fatal(err)
	}
	if err := s.RemoveOperator(ctx, "1"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.KeyByHash(ctx, []byte("h")); !errors.Is(err, ErrNotFound) {
		t.Errorf("the token of a removed operator lives on: %v", err)
	}
}

func BenchmarkAttempts(b *testing.B) {
	a := openAttempts(b)
	facts := []byte(strings.Repeat(`{"sent":"somebody","groups":["Crew"]}`, 15))
	for i := range b.N {
		for a.Added()-a.Len() > 20_000 {
			time.Sleep(time.Millisecond)
		}
		a.Add(&Attempt{At: time.Now(), Verdict: "admitted", Reason: "ok", Client: "np-switch-1",
			Who: fmt.Sprintf("user%d", i%5000), Sent: "user", MAC: fmt.Sprintf("00-00-5E-00-%02X-%02X", i>>8&255,
				i&255), Facts: facts})
	}
	a.Flush(b.Context())
	if a.Lost() > 0 {
		b.Fatalf("%d lost", a.Lost())
	}
	b.ReportMetric(float64(a.Size())/float64(b.N), "octets/attempt")
}

// What the store answers is on the disk, also after failures and contexts that ended.
func TestDurableCommits(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	const full = 2
	level := func(db interface {
		GetContext(ctx context.Context, dest any, query string, args ...any) error
	}) (n int) {
		t.Helper()
		if err := db.GetContext(ctx, &n, "PRAGMA synchronous"); err != nil {
			t.Fatal(err)
		}
		return n
	}
	var during int
	if err := s.within(ctx, func(tx *sqlx.Tx) error { during = level(tx); return nil }); err != nil || during != full {
		t.Errorf("a durable commit is made at level %d: %v", during, err)
	}
	failed := errors.New("no")
	if err := s.within(ctx, func(*sqlx.Tx) error { return failed }); !errors.Is(err, failed) ||
		level(s.single) != full {
		t.Errorf("after a failure: %v, level %d", err, level(s.single))
	}
	ended, cancel := context.WithCancel(ctx)
	err = s.within(ended, func(*sqlx.Tx) error { cancel(); return nil })
	if got := level(s.single); got != full {
		t.Errorf("after a context that ended (%v) the level is %d", err, got)
	}
}

// Nobody else may read what lies in a data directory, whatever the umask.
func TestFilesArePrivate(t *testing.T) {
	old := syscall.Umask(0)
	defer syscall.Umask(old)
	dir, ctx := t.TempDir(), context.Background()
	s, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	j, err := OpenJournal(ctx, dir, ident.NewSource(0), record.Retention{})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SaveAccount(ctx, Account{ID: "1", Name: "x", Groups: []byte("[]")}); err != nil {
		t.Fatal(err)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "*"))
	if len(files) < 4 {
		t.Errorf("only %v", files)
	}
	for _, path := range files {
		if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s has rights %v", path, info.Mode().Perm())
		}
	}
	j.Close()
	s.Close()
}

// A filter selects the same in the database and in a live view.
func TestFiltersAgree(t *testing.T) {
	s, ctx := openAttempts(t), context.Background()
	r := rand.New(rand.NewPCG(7, 7))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	names := []string{"s.lodge", "S.Lodge", "ångström", "Ångström", "a_b", "a%b", `c\d`, "x*y", "", "ann@lantern"}
	for range 400 {
		sent := pick(names...)
		s.Add(&Attempt{At: time.Now(), Verdict: pick("admitted", "refused"), Reason: pick("ok", "password.wrong"),
			Client: pick("np-switch-1", "NP-Switch-1", "hh_vpn"),
			Who:    strings.ToLower(sent), Sent: sent, Display: pick("Sunniva Lodge", "ÅSE", ""),
			MAC: pick("02-00-5E-10-4C-9D", ""), Lane: pick("Wired", "VPN"), Facts: []byte("{}")})
	}
	s.Flush(ctx)
	page, err := s.Find(ctx, Filter{Limit: 1000})
	all := page.Items
	if err != nil || len(all) != 400 {
		t.Fatalf("%d, %v", len(all), err)
	}
	some := func(list ...string) string { // mostly nothing is asked for
		if r.IntN(3) > 0 {
			return ""
		}
		return pick(list...)
	}
	hits := 0
	for range 500 {
		f := Filter{User: some("s.lodge", "S.LODGE", "s*", "*LODGE", "å*", "a_b", "a*b", "x*y", "*"),
			MAC: some("02-00-5E-10-4C-9D"), Client: some("np-switch-1", "hh_vpn"),
			Verdict: some("admitted"), Reason: some("ok"), Lane: some("VPN"), Text: some("lodge", "LODGE", "_", "%",
				`\`, "Å", "å", "5e-10", "vpn"), Limit: 1000}
		if r.IntN(4) == 0 {
			f.After = all[r.IntN(len(all))].ID
		}
		if r.IntN(4) == 0 {
			f.Before = all[r.IntN(len(all))].ID
		}
		got, err := s.Find(ctx, f)
		if err != nil {
			t.Fatal(err)
		}
		listed := map[ident.ID]bool{}
		for i := range got.Items {
			listed[got.Items[i].ID] = true
		}
		hits += len(got.Items)
		for i := range all {
			if a := &all[i]; f.Fits(a) != listed[a.ID] {
				t.Fatalf("%+v: %q (%q) is listed: %v, fits live: %v", f, a.Sent, a.Display, listed[a.ID], f.Fits(a))
			}
		}
	}
	if hits < 1000 {
		t.Errorf("only %d hits: this test compares nothing", hits)
	}
}
