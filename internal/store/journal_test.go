package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

func TestJournalKeepsWhatItSaysItKept(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	j, err := OpenJournal(ctx, dir, ident.NewSource(0), record.Retention{})
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	begun := time.Now()
	for i := range 300 {
		all.Go(func() {
			e := &Entry{At: begun, Kind: "command", Client: "hh-router-1", Who: fmt.Sprintf("p%d", i%3),
				Command: fmt.Sprintf("show thing_%d", i), Verdict: "admitted",
				Level: 15, Args: []string{"cmd=show"}}
			if err := j.Record(ctx, e); err != nil || e.ID == 0 {
				t.Errorf("entry %d: %v", i, err)
			}
		})
	}
	all.Wait()
	if err := j.Record(ctx, &Entry{At: begun, Kind: "stop", Client: "hh-firewall-1", Who: "p1",
		Task: "7"}); err != nil {
		t.Fatal(err)
	}
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	if err := j.Record(ctx, &Entry{At: begun}); !errors.Is(err, record.ErrClosed) {
		t.Errorf("a closed journal says %v", err)
	}
	if j, err = OpenJournal(ctx, dir, ident.NewSource(0), record.Retention{}); err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	for _, c := range []struct {
		f    EntryFilter
		want int
	}{{EntryFilter{}, 301}, {EntryFilter{Who: "P1"}, 101}, {EntryFilter{Who: "p*", Client: "hh-router-1"}, 300},
		{EntryFilter{Kind: "record"}, 1}, {EntryFilter{Task: "7"}, 1}, {EntryFilter{Text: "thing_29"}, 11},
		{EntryFilter{Text: "thing%"}, 0}, {EntryFilter{Span: Span{Since: begun.Add(time.Minute)}}, 0},
		{EntryFilter{Span: Span{Until: begun.Add(time.Minute)}, Verdict: "admitted"}, 300}} {
		c.f.Limit = 1000
		if list, err := j.Find(ctx, c.f); err != nil || len(list.Items) != c.want {
			t.Errorf("%+v: %d (%v), want %d", c.f, len(list.Items), err, c.want)
		}
	}
	list, _ := j.Find(ctx, EntryFilter{Limit: 2})
	if next, _ := j.Find(ctx, EntryFilter{Span: Span{Before: list.Next}, Limit: 1}); len(next.Items) != 1 ||
		next.Items[0].ID >= list.Items[1].ID {
		t.Errorf("the page behind %v begins with %v", list, next)
	}
	if n, err := j.Remove(ctx, begun.Add(time.Minute), 1000); n != 301 || err != nil {
		t.Errorf("%d removed, %v", n, err)
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	for range 20 { // an entry of somebody who no longer waits is no error for the others
		j.Record(gone, &Entry{At: begun})
	}
	if err := j.Record(ctx, &Entry{At: begun}); err != nil {
		t.Error(err)
	}
}

func BenchmarkJournalRecord(b *testing.B) {
	j, err := OpenJournal(b.Context(), b.TempDir(), ident.NewSource(0), record.Retention{})
	if err != nil {
		b.Fatal(err)
	}
	defer j.Close()
	b.SetParallelism(64)
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			if err := j.Record(b.Context(), &Entry{At: time.Now(), Kind: "command", Client: "hh-router-1",
				Who: "r.kalnina", Command: "show version", Verdict: "admitted", Display: "Ruta Kalnina",
				Pass: "network-admin", Reason: "ok", Line: "line 3: permit show *", Port: "vty0",
				Origin: "192.0.2.7"}); err != nil {
				b.Error(err)
			}
		}
	})
}

// A filter selects the same in the database and in a live view.
func TestJournalFiltersAgree(t *testing.T) {
	ctx := t.Context()
	j, err := OpenJournal(ctx, t.TempDir(), ident.NewSource(0), record.Retention{})
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	r := rand.New(rand.NewPCG(7, 7))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for range 150 {
		e := &Entry{At: time.Now(), Kind: pick("login", "command", "start", "stop", "update", "shell"),
			Client: pick("hh-router-1", "hh_core"), Who: pick("ann", "s.lodge", "a%b", "é"), Verdict: pick("admitted",
				"refused", ""),
			Task: pick("7", ""), Command: pick("show version", `set "x" <y> & z`, ""),
			Display: pick("Ann <of> Pier", "É", ""), Args: [][]string{nil, {"service=shell", "cmd="},
				{`acl="5"`, "display"}}[r.IntN(3)]}
		if err := j.Record(ctx, e); err != nil {
			t.Fatal(err)
		}
	}
	page, err := j.Find(ctx, EntryFilter{Limit: 1000})
	all := page.Items
	if err != nil || len(all) != 150 {
		t.Fatalf("%d, %v", len(all), err)
	}
	some := func(list ...string) string {
		if r.IntN(3) > 0 {
			return ""
		}
		return pick(list...)
	}
	hits := 0
	for range 400 {
		f := EntryFilter{Who: some("ann", "ANN", "s*", "a%b", "*"), Client: some("hh_core"),
			Kind: some("login", "command", Reported), Verdict: some("admitted"), Task: some("7"),
			Text:  some("show", "SHOW", "args", "display", "<of>", `"5"`, "&", "é", "É", "service=shell", "shell cmd"),
			Limit: 1000}
		page, err := j.Find(ctx, f)
		got := page.Items
		if err != nil {
			t.Fatal(err)
		}
		listed := map[ident.ID]bool{}
		for i := range got {
			listed[got[i].ID] = true
		}
		hits += len(got)
		for i := range all {
			if e := &all[i]; f.Fits(e) != listed[e.ID] {
				t.Fatalf("%+v: %+v is listed: %v, fits live: %v", f, e, listed[e.ID], f.Fits(e))
			}
		}
	}
	if hits < 500 {
		t.Errorf("only %d hits: this test compares nothing", hits)
	}
}
