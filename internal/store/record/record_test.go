package record

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// visit is a record for the tests.
type visit struct {
	ID    ident.ID
	At    time.Time
	Who   string
	Sent  string
	Gate  string
	Tags  []string
	Count int64
	Late  bool
	Paper []byte
}

func visits(durable bool) Kind[visit] {
	return Kind[visit]{Name: "visits", Durable: durable,
		Key: func(v *visit) (*ident.ID, *time.Time) { return &v.ID, &v.At },
		Fields: func(f *Fields, v *visit) {
			f.Term("who", &v.Who)
			f.TermUnless("sent", &v.Sent, v.Who)
			f.Term("gate", &v.Gate)
			f.Terms("tag", &v.Tags)
			f.Int(&v.Count)
			f.Bool(&v.Late)
			f.Body(&v.Paper)
		}}
}

func openVisits(t testing.TB, dir string, durable bool, keep Retention) *Keeper[visit] {
	t.Helper()
	k, err := Open(context.Background(), dir, ident.NewSource(1), visits(durable), keep)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { k.Close() })
	return k
}

func everything(t testing.TB, k *Keeper[visit]) []visit {
	t.Helper()
	page, err := k.List(context.Background(), Query[visit]{Limit: 1 << 20, Bodies: func(*visit) bool { return true }})
	if err != nil || page.Next != 0 || page.Unreadable != 0 {
		t.Fatalf("%d, next %v, %d unreadable, %v", len(page.Items), page.Next, page.Unreadable, err)
	}
	return page.Items
}

func like(field, pattern string, of func(*visit) string) Condition[visit] {
	p := NewPattern(pattern)
	return Condition[visit]{Fits: func(v *visit) bool { return p.Match(of(v)) }, In: []Lookup{{field, pattern}}}
}

// What a search finds by way of the index is what fits, in any part of the time, in both directions, a page at a time
// and with no patience.
func TestSearchesFindWhatFits(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	k := openVisits(t, t.TempDir(), false, Retention{})
	begun := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	const n = 3*segmentSize + 900
	for i := range n {
		who := fmt.Sprintf("p%d", r.IntN(3000))
		sent := who
		if i%3 == 0 {
			sent = `PIER\` + strings.ToUpper(who)
		}
		k.Add(&visit{At: begun.Add(time.Duration(i)*time.Second + time.Duration(r.IntN(5000))*time.Millisecond),
			Who:  who,
			Sent: sent, Gate: fmt.Sprintf("gate-%d", i/1000%40), Tags: []string{"Ünder",
				fmt.Sprint("t", i%7)}[:i%3%2+1],
			Count: int64(-i), Late: i%2 == 0, Paper: []byte(fmt.Sprint("paper ", i))})
		if i%200 == 199 {
			time.Sleep(100 * time.Microsecond) // batches of different sizes
		}
	}
	k.Flush(t.Context())
	all := everything(t, k)
	if len(all) != n || k.Len() != n || k.Lost() != 0 {
		t.Fatalf("%d of %d, %d lost", len(all), n, k.Lost())
	}
	for i := range all {
		v := &all[i]
		if i > 0 && v.ID >= all[i-1].ID || string(v.Paper) != fmt.Sprint("paper ", -v.Count) ||
			v.Late != (v.Count%2 == 0) ||
			len(v.Tags) == 0 || v.Tags[0] != "Ünder" {
			t.Fatalf("record %d is %+v", i, v)
		}
	}
	if k.w.waiting >= segmentSize || len(k.w.tail) > segmentSize/smallBlock {
		t.Errorf("%d records in %d blocks are in no segment", k.w.waiting, len(k.w.tail))
	}
	found := 0
	for turn := range 60 {
		q := Query[visit]{Limit: 1 + r.IntN(400)}
		for _, c := range []Condition[visit]{
			like("who", fmt.Sprintf("p%d", r.IntN(3300)), func(v *visit) string { return v.Who }),
			like("who", fmt.Sprintf("P%d*", r.IntN(40)), func(v *visit) string { return v.Who }),
			like("who", fmt.Sprintf("*%d", r.IntN(300)), func(v *visit) string { return v.Who }),
			{Fits: func(v *visit) bool { return strings.HasPrefix(v.Sent, `PIER\P1`) },
				In: []Lookup{{"sent", `pier\p1*`},
					{"who", `pier\p1*`}}},
			like("gate", fmt.Sprintf("GATE-%d", r.IntN(44)), func(v *visit) string { return v.Gate }),
			{Fits: func(v *visit) bool { return len(v.Tags) > 1 && v.Tags[1] == "t3" }, In: []Lookup{{"tag", "t3"}}},
			{Fits: func(v *visit) bool { return v.Late }},
		} {
			if r.IntN(4) == 0 {
				q.Conditions = append(q.Conditions, c)
			}
		}
		if r.IntN(3) == 0 {
			q.Since = all[r.IntN(n)].At
		}
		if r.IntN(3) == 0 {
			q.Until = all[r.IntN(n)].At
		}
		up := r.IntN(3) == 0
		if up {
			q.After = all[n-1-r.IntN(n/2)].ID
		} else if r.IntN(2) == 0 {
			q.Before = all[r.IntN(n)].ID
		}
		if r.IntN(3) == 0 {
			q.Patience = time.Nanosecond
		}
		var want []ident.ID
		for i := range all {
			v := &all[i]
			if up {
				v = &all[n-1-i]
			}
			if q.Holds(v.ID, v.At) && fits(q.Conditions, v) {
				want = append(want, v.ID)
			}
		}
		var got []ident.ID
		for pages := 0; ; pages++ {
			page, err := k.List(t.Context(), q)
			if err != nil || pages > n {
				t.Fatalf("page %d of %+v, %d conditions: next %v, %v", pages, q.Span, len(q.Conditions), page.Next, err)
			}
			for i := range page.Items {
				got = append(got, page.Items[i].ID)
			}
			if page.Next == 0 {
				break
			}
			if page.Searched.IsZero() && len(page.Items) != q.Limit {
				t.Fatalf("a page of %d of %d goes on without a reason", len(page.Items), q.Limit)
			}
			if up {
				q.After = page.Next
			} else {
				q.Before = page.Next
			}
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("%+v: %d found, %d fit", q.Span, len(got), len(want))
		}
		found += len(got)
		if turn%6 == 0 {
			walked(t, k, q, all)
		}
	}
	if found < 3000 {
		t.Errorf("only %d are found: this test compares nothing", found)
	}
	for _, i := range []int{0, 1, n / 2, n - 1} {
		if v, err := k.Get(t.Context(), all[i].ID); err != nil || v.Count != all[i].Count ||
			string(v.Paper) != string(all[i].Paper) {
			t.Errorf("%+v, %v", v, err)
		}
	}
	if _, err := k.Get(t.Context(), all[0].ID+1); !errors.Is(err, ErrNotFound) {
		t.Errorf("a record that is not there: %v", err)
	}
	from, to := all[n-100].At, all[500].At
	want := 0
	for i := range all {
		if !all[i].At.Before(from) && all[i].At.Before(to) {
			want++
		}
	}
	if got, err := k.Count(t.Context(), from, to); err != nil || got != want {
		t.Errorf("%d are counted, %v; there are %d", got, err, want)
	}
}

// walked checks that a walk comes to the same as looking at everything, the oldest first, and ends when it is told to.
func walked(t *testing.T, k *Keeper[visit], q Query[visit], all []visit) {
	t.Helper()
	q.Before = 0
	var want, got []ident.ID
	for i := range all {
		if v := &all[len(all)-1-i]; q.Holds(v.ID, v.At) && fits(q.Conditions, v) {
			want = append(want, v.ID)
		}
	}
	if err := k.Walk(t.Context(), q, func(list []visit) error {
		for i := range list {
			got = append(got, list[i].ID)
		}
		return nil
	}); err != nil || fmt.Sprint(got) != fmt.Sprint(want) {
		t.Fatalf("%+v: %d walked, %d fit, %v", q.Span, len(got), len(want), err)
	}
	calls, stop := 0, errors.New("stop")
	err := k.Walk(t.Context(), q, func([]visit) error { calls++; return stop })
	if len(want) > 0 && (!errors.Is(err, stop) || calls != 1) || len(want) == 0 && err != nil {
		t.Fatalf("stopped after %d calls: %v", calls, err)
	}
}

// Identifiers go on above whatever is there, with a clock that was a year ahead before a restart and one that is an
// hour back after it. Nothing is lost, and each record keeps its own time.
func TestAClockThatJumpsLosesNothing(t *testing.T) {
	dir := t.TempDir()
	real := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	last := ident.ID(0)
	for i, at := range []time.Time{real, real.AddDate(1, 0, 0), real.Add(-time.Hour), real.Add(time.Hour),
		time.Unix(0, 0), real} {
		k := openVisits(t, dir, i%2 == 0, Retention{})
		for j := range 60 {
			v := &visit{At: at.Add(time.Duration(j) * time.Millisecond), Who: fmt.Sprint("run", i)}
			if err := k.Record(t.Context(), v); err != nil {
				t.Fatal(err)
			}
			if v.ID <= last {
				t.Fatalf("run %d: %v comes after %v", i, v.ID, last)
			}
			last = v.ID
		}
		k.Close()
	}
	k := openVisits(t, dir, true, Retention{})
	if all := everything(t, k); len(all) != 360 {
		t.Fatalf("%d are there", len(all))
	}
	page, err := k.List(t.Context(), Query[visit]{Limit: 1000, Span: Span{Since: real.AddDate(1, 0, 0),
		Until: real.AddDate(1, 0, 1)}})
	if err != nil || len(page.Items) != 60 || page.Items[0].Who != "run1" {
		t.Errorf("%d are found in the year ahead, %v", len(page.Items), err)
	}
	page, err = k.List(t.Context(), Query[visit]{Limit: 1000, Conditions: []Condition[visit]{like("who", "run2",
		func(v *visit) string { return v.Who })}})
	if err != nil || len(page.Items) != 60 || !page.Items[59].At.Equal(real.Add(-time.Hour)) {
		t.Errorf("%d are found of the hour back, %v", len(page.Items), err)
	}
}

// A clock that is months ahead removes no more than a usual day's share, and it is said; what is over by and by goes.
func TestRemovingIsBounded(t *testing.T) {
	dir := t.TempDir()
	real := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	ahead := real
	keep := Retention{Keep: 90 * 24 * time.Hour, Now: func() time.Time { return ahead }}
	k := openVisits(t, dir, false, keep)
	const n = 91 * 288
	for i := range n {
		k.Add(&visit{At: real.Add(time.Duration(i-n) * 5 * time.Minute), Who: fmt.Sprint("p", i%50)})
	}
	k.Flush(t.Context())
	clean := func() {
		t.Helper()
		if err := k.do(t.Context(), func() error {
			k.removal.next = time.Time{}
			for k.clean(t.Context()) {
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	clean()
	left := k.Len()
	if gone := n - left; gone < 288-2*blockSize || gone > 288 || k.Held() != nil {
		t.Errorf("%d of the day that is over are removed, held %+v", gone, k.Held())
	}
	ahead = real.AddDate(0, 6, 0)
	clean()
	if gone := left - k.Len(); gone > 3*288 || k.Held() == nil || k.Held().Records < 80*288 {
		t.Errorf("a clock half a year ahead removes %d, held %+v", gone, k.Held())
	}
	for day := range 100 { // the time passes
		if err := k.do(t.Context(), func() error {
			k.removal.begun = time.Now().Add(-shareWithin)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		if clean(); k.Len() == 0 {
			if day < 35 {
				t.Errorf("all are gone after %d days", day)
			}
			break
		}
	}
	if k.Len() != 0 || k.Held() != nil {
		t.Errorf("after a hundred days %d are there, held %+v", k.Len(), k.Held())
	}
	var segments, terms, free, pages int
	db := k.file.Read
	for query, to := range map[string]*int{"SELECT count(*) FROM segments": &segments,
		"SELECT count(*) FROM terms": &terms,
		"PRAGMA freelist_count":      &free, "PRAGMA page_count": &pages} {
		if err := db.Get(to, query); err != nil {
			t.Fatal(err)
		}
	}
	if segments+terms != 0 || free > keptFree {
		t.Errorf("%d segments and %d terms are left, and %d of %d pages free", segments, terms, free, pages)
	}
	if n, err := k.Remove(t.Context(), real, 10); n != 0 || err != nil {
		t.Errorf("%d, %v", n, err)
	}
}

// Records that come one by one lie together in full blocks by and by, and are there meanwhile.
func TestSmallBlocksAreMerged(t *testing.T) {
	k := openVisits(t, t.TempDir(), true, Retention{})
	for i := range 3*blockSize + 20 {
		if err := k.Record(t.Context(), &visit{At: time.Now(), Who: fmt.Sprint("p", i),
			Paper: []byte{byte(i)}}); err != nil {
			t.Fatal(err)
		}
	}
	before := everything(t, k)
	k.Flush(t.Context())
	var blocks int
	if err := k.file.Read.Get(&blocks, "SELECT count(*) FROM blocks"); err != nil || blocks > 3+blockSize {
		t.Errorf("%d blocks are left, %v", blocks, err)
	}
	after := everything(t, k)
	if fmt.Sprint(before) != fmt.Sprint(after) {
		t.Error("merging changed what is there")
	}
}

// A file that was cut in half is set aside, and the service goes on with a new one; a page of zeros costs what was in
// it.
func TestDamagedFiles(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "visits.db")
	fill := func() {
		t.Helper()
		k := openVisits(t, dir, false, Retention{})
		r := rand.New(rand.NewPCG(1, 1))
		for range 3 * segmentSize / 2 {
			paper := make([]byte, 60)
			for i := range paper {
				paper[i] = byte(r.Uint32())
			}
			k.Add(&visit{At: time.Now(), Who: fmt.Sprint("p", r.IntN(1000)), Paper: paper})
		}
		k.Flush(t.Context())
		if err := k.Close(); err != nil {
			t.Fatal(err)
		}
	}
	fill()
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, whole[:len(whole)/2], 0o600); err != nil {
		t.Fatal(err)
	}
	k := openVisits(t, dir, false, Retention{})
	if k.SetAside() == "" || k.Len() != 0 {
		t.Errorf("half a file: set aside %q, %d are there", k.SetAside(), k.Len())
	}
	if kept, err := os.ReadFile(k.SetAside()); err != nil || len(kept) != len(whole)/2 {
		t.Errorf("what was set aside has %d octets, %v", len(kept), err)
	}
	k.Close()
	const page = 8192
	for _, at := range []int{1, 2, 3, 4, 5, len(whole) / page / 2, len(whole)/page - 1} {
		zeros := append([]byte(nil), whole...)
		clear(zeros[at*page : (at+1)*page])
		if err := os.WriteFile(path, zeros, 0o600); err != nil {
			t.Fatal(err)
		}
		k, err := Open(t.Context(), dir, ident.NewSource(1), visits(false), Retention{})
		if err != nil {
			t.Fatalf("page %d: %v", at, err)
		}
		got, err := k.List(t.Context(), Query[visit]{Limit: 1 << 20})
		if err == nil && k.SetAside() == "" && got.Unreadable == 0 && len(got.Items) < 3*segmentSize/2 {
			t.Errorf("page %d: %d are missing, and nobody says so", at, 3*segmentSize/2-len(got.Items))
		}
		if err != nil && !strings.Contains(err.Error(), "the file is damaged. Restore a backup") {
			t.Errorf("page %d: %v", at, err)
		}
		k.Close()
		os.Remove(path + "-wal")
		os.Remove(path + "-shm")
	}
}

// Whoever closes loses nothing of what was handed over before, and whoever comes after that is told.
func TestClosing(t *testing.T) {
	dir := t.TempDir()
	k := openVisits(t, dir, false, Retention{})
	for i := range 5000 {
		k.Add(&visit{At: time.Now(), Who: fmt.Sprint("p", i)})
	}
	k.Close()
	if err := k.Record(t.Context(), &visit{}); !errors.Is(err, ErrClosed) {
		t.Errorf("a closed keeper says %v", err)
	}
	if again := openVisits(t, dir, false, Retention{}); again.Len() != 5000 {
		t.Errorf("%d are there", again.Len())
	}
}

// A flood is held up before anything is lost, and nobody is held up for long.
func TestAFloodIsHeldUpBeforeAnythingIsLost(t *testing.T) {
	k := &Keeper[visit]{queue: make(chan pending[visit], queueSize)} // nobody takes anything off
	add := func(full int) time.Duration {
		for len(k.queue) < full {
			k.queue <- pending[visit]{}
		}
		begun := time.Now()
		k.Add(&visit{})
		return time.Since(begun)
	}
	if took := add(queueSize/2 - 2); took > maxHold/2 {
		t.Errorf("with less than half of the queue taken, somebody was held up for %s", took)
	}
	if took := add(queueSize * 3 / 4); took < maxHold/2 || took > 20*maxHold {
		t.Errorf("with three quarters of the queue taken, somebody was held up for %s", took)
	}
	if took := add(queueSize); took < maxHold || took > 20*maxHold || k.Lost() != 1 {
		t.Errorf("with the queue full, somebody was held up for %s, and %d are lost", took, k.Lost())
	}
}
