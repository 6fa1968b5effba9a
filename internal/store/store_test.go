package store

import (
	"bytes"
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

func TestAttemptsAreWrittenAndFiltered(t *testing.T) {
	s, ids, ctx := open(t), ident.NewSource(0), context.Background()
	written := 0
	w := s.NewWriter(ids, func(batch []*Attempt) { written += len(batch) })
	begun := time.Now().Add(-time.Hour)
	for i := range 1000 {
		verdict := "admitted"
		if i%4 == 0 {
			verdict = "refused"
		}
		w.Add(&Attempt{At: begun.Add(time.Duration(i) * time.Second), Verdict: verdict, Reason: "ok",
			Client: fmt.Sprintf("switch-%d", i%3), Who: fmt.Sprintf("user%d", i%50),
			Sent:    fmt.Sprintf("LANTERN\\User%d", i%50),
			Display: "Person 50%_x", MAC: fmt.Sprintf("00-00-5E-00-53-%02X", i%100), Facts: []byte(`{"sent":"x"}`)})
	}
	w.Flush(ctx)
	if written != 1000 || w.Lost() != 0 {
		t.Fatalf("%d written, %d lost", written, w.Lost())
	}
	if _, err := s.single.Exec("DELETE FROM seen WHERE id > (SELECT max(id) FROM (SELECT id FROM attempts ORDER BY " +
		"id LIMIT 600))"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.single.Exec("UPDATE seen_until SET id = (SELECT max(id) FROM (SELECT id FROM attempts ORDER BY id " +
		"LIMIT 600))"); err != nil {
		t.Fatal(err) // some are found through the table now, the rest one by one
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
		got, err := s.Attempts(ctx, c.f)
		if err != nil || len(got) != c.n {
			t.Errorf("%s: %d, %v; wanted %d", c.name, len(got), err, c.n)
		}
	}
	first, _ := s.Attempts(ctx, Filter{Limit: 10})
	second, _ := s.Attempts(ctx, Filter{Limit: 10, Span: Span{Before: first[9].ID}})
	if second[0].ID >= first[9].ID {
		t.Error("the second page overlaps the first")
	}
	newer, _ := s.Attempts(ctx, Filter{Limit: 5, Span: Span{After: first[9].ID}})
	if len(newer) != 5 || newer[0].ID != first[8].ID {
		t.Errorf("after the cursor come %v", newer)
	}
	one, err := s.Attempt(ctx, first[0].ID)
	if err != nil || string(one.Facts) != `{"sent":"x"}` {
		t.Errorf("one attempt: %s, %v", one.Facts, err)
	}
	if _, err := s.Attempt(ctx, 1); !errors.Is(err, ErrNotFound) {
		t.Errorf("a missing attempt gives %v", err)
	}
	minutes, err := s.CountByMinute(ctx, begun)
	total := 0
	for _, m := range minutes {
		total += m.Admitted + m.Refused
	}
	if err != nil || total != 1000 || minutes[0].Minute != begun.Unix()/60 {
		t.Errorf("%d counted by minute from %d, %v", total, minutes[0].Minute, err)
	}
	if n, err := s.RemoveAttempts(ctx, begun.Add(100*time.Second), 60); err != nil || n != 60 {
		t.Errorf("removed %d, %v", n, err)
	}
	var left int
	if err := s.db.Get(&left, "SELECT count(*) FROM seen WHERE id NOT IN (SELECT id FROM attempts)"); err != nil ||
		left != 0 {
		t.Errorf("%d entries of removed attempts are left, %v", left, err)
	}
	w.Close()
	for n := 1; n > 0; {
		n, _ = s.indexSome(1000)
	}
	if got, err := s.Attempts(ctx, Filter{User: "user7", Limit: 100, Span: Span{Before: newer[0].ID}}); err != nil ||
		len(got) == 0 || len(got) > 20 {
		t.Errorf("%d when all is indexed, %v", len(got), err)
	}
}

func TestPublishIsAllOrNothing(t *testing.T) {
	s, ctx := open(t), context.Background()
	d := Draft{At: 1, Operator: "o.brandt", Config: []byte("{}"), Authors: []byte("{}")}
	r := Revision{Number: 1, At: 1, Operator: "o.brandt", Note: "first", Changes: []byte("[]"), Config: []byte("{}")}
	if err := s.Publish(ctx, r, d); err != nil {
		t.Fatal(err)
	}
	d.Operator = "somebody else"
	if err := s.Publish(ctx, r, d); err == nil {
		t.Fatal("a revision is overwritten")
	}
	if got, err := s.Draft(ctx); err != nil || got.Operator != "o.brandt" {
		t.Errorf("the draft of a failed publish stayed: %+v, %v", got, err)
	}
	if got, err := s.Revision(ctx, 0); err != nil || got.Number != 1 || got.Note != "first" {
		t.Errorf("newest %+v, %v", got, err)
	}
	if _, err := s.Revision(ctx, 7); !errors.Is(err, ErrNotFound) {
		t.Errorf("a missing revision gives %v", err)
	}
}

func TestOperators(t *testing.T) {
	s, ctx := open(t), context.Background()
	if err := s.AddOperator(ctx, Operator{ID: "1", Name: "o.brandt", Hash: "h"}, true); err != nil {
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
	s.AddOperator(ctx, Operator{ID: "3", Name: "n", Hash: "h"}, false)
	if err := s.RemoveOperator(ctx, "1"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.KeyByHash(ctx, []byte("h")); !errors.Is(err, ErrNotFound) {
		t.Errorf("the token of a removed operator lives on: %v", err)
	}
}

func BenchmarkWriter(b *testing.B) {
	s, ids := open(b), ident.NewSource(0)
	w := s.NewWriter(ids, nil)
	facts := []byte(strings.Repeat(`{"sent":"somebody","groups":["Crew"]}`, 15))
	for i := range b.N {
		for len(w.queue) > queueSize-10 {
			time.Sleep(time.Millisecond)
		}
		w.Add(&Attempt{At: time.Now(), Verdict: "admitted", Reason: "ok", Client: "np-switch-1",
			Who: fmt.Sprintf("user%d", i%5000), Sent: "user", MAC: fmt.Sprintf("00-00-5E-00-%02X-%02X", i>>8&255,
				i&255), Facts: facts})
	}
	w.Close()
	if w.Lost() > 0 {
		b.Fatalf("%d lost", w.Lost())
	}
}

// What was committed comes into the file by itself, beside the writer, and the log begins anew instead of growing.
func TestTheLogComesIntoTheFile(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	w := s.NewWriter(ident.NewSource(0), nil)
	defer w.Close()
	size := func(name string) int64 {
		info, err := os.Stat(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return info.Size()
	}
	for range 10 {
		for range 500 {
			w.Add(&Attempt{At: time.Now(), Verdict: "admitted", Client: "np-switch-1", Who: "k.nance",
				Facts: bytes.Repeat([]byte("x"), 1000)})
		}
		w.Flush(context.Background())
		time.Sleep(3 * checkpointEvery)
	}
	if file, log := size("tollgate.db"), size("tollgate.db-wal"); file < 5_000_000 || log > 4_000_000 {
		t.Errorf("after 5 MB in ten parts the file has %d octets and the log %d", file, log)
	}
}

// A flood is held up before anything is lost, and nobody is held up for long.
func TestAFloodIsHeldUpBeforeAnythingIsLost(t *testing.T) {
	w := &Writer{queue: make(chan *Attempt, queueSize)} // nobody takes anything off
	fill := func(to int) {
		for len(w.queue) < to {
			w.queue <- &Attempt{}
		}
	}
	add := func() time.Duration {
		begun := time.Now()
		w.Add(&Attempt{})
		return time.Since(begun)
	}
	fill(queueSize/2 - 2)
	if took := add(); took > maxHold/2 {
		t.Errorf("with less than half of the queue taken, somebody was held up for %s", took)
	}
	fill(queueSize * 3 / 4)
	if took := add(); took < maxHold/2 || took > 20*maxHold {
		t.Errorf("with three quarters of the queue taken, somebody was held up for %s", took)
	}
	fill(queueSize)
	if took := add(); took < maxHold || took > 20*maxHold || w.Lost() != 1 {
		t.Errorf("with the queue full, somebody was held up for %s, and %d are lost", took, w.Lost())
	}
}

// What prevents something is committed with the disk's word; everything else does not wait for it.
func TestDurableCommits(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	const full, normal = 2, 1
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
	if err := s.durably(ctx, func(tx *sqlx.Tx) error { during = level(tx); return nil }); err != nil || during != full {
		t.Errorf("a durable commit is made at level %d: %v", during, err)
	}
	if got := level(s.single); got != normal {
		t.Errorf("after it the level is %d", got)
	}
	failed := errors.New("no")
	if err := s.durably(ctx, func(*sqlx.Tx) error { return failed }); !errors.Is(err, failed) ||
		level(s.single) != normal {
		t.Errorf("after a failure: %v, level %d", err, level(s.single))
	}
	ended, cancel := context.WithCancel(ctx)
	err = s.durably(ended, func(*sqlx.Tx) error { cancel(); return nil })
	if got := level(s.single); got != normal {
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
	j, err := OpenJournal(ctx, dir, ident.NewSource(0), nil)
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
	s, ids := open(t), ident.NewSource(0)
	w := s.NewWriter(ids, nil)
	ctx := context.Background()
	r := rand.New(rand.NewPCG(7, 7))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	names := []string{"s.lodge", "S.Lodge", "ångström", "Ångström", "a_b", "a%b", `c\d`, "x*y", "", "ann@lantern"}
	for range 400 {
		sent := pick(names...)
		w.Add(&Attempt{At: time.Now(), Verdict: pick("admitted", "refused"), Reason: pick("ok", "password.wrong"),
			Client: pick("np-switch-1", "NP-Switch-1", "hh_vpn"),
			Who:    strings.ToLower(sent), Sent: sent, Display: pick("Sunniva Lodge", "ÅSE", ""),
			MAC: pick("02-00-5E-10-4C-9D", ""), Lane: pick("Wired", "VPN"), Facts: []byte("{}")})
	}
	w.Close()
	all, err := s.Attempts(ctx, Filter{Limit: 1000})
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
		got, err := s.Attempts(ctx, f)
		if err != nil {
			t.Fatal(err)
		}
		listed := map[ident.ID]bool{}
		for i := range got {
			listed[got[i].ID] = true
		}
		hits += len(got)
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
