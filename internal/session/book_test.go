package session

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

func openIn(t testing.TB, dir string, leases *Keeper) *Sessions {
	t.Helper()
	ctx := context.Background()
	file, err := store.OpenOpenSessions(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	k, err := OpenSessions(ctx, file, leases, func(written func([]*store.Accounted)) (*store.Accounting, error) {
		return store.OpenAccounting(ctx, dir, ident.NewSource(0), record.Retention{}, written)
	})
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// says reports about a session of a client.
func says(t testing.TB, k *Sessions, kind, session string, change func(*Report)) {
	t.Helper()
	r := &Report{Accounted: store.Accounted{At: time.Now(), Kind: kind, Client: "c", NAS: "n", Session: session,
		Who: "k.nance", MAC: "02-00-5E-00-00-01", Silence: time.Hour}}
	if change != nil {
		change(r)
	}
	if err := k.Report(context.Background(), r); err != nil {
		t.Fatal(err)
	}
}

// summary writes what is open.
func summary(k *Sessions) (out []string) {
	list, _ := k.List(Filter{})
	for _, s := range list {
		out = append(out, fmt.Sprint(s.Session, " ", s.ID, " ", s.Seconds, " ", s.In, " ", s.Note, " ", s.Records))
	}
	slices.Sort(out)
	return out
}

// Whatever happens, the sessions that are open after a restart are those that were open before: as they were saved, or
// made again from accounting alone.
func TestOpenSessionsAreWhatAccountingSays(t *testing.T) {
	dir := t.TempDir()
	k := openIn(t, dir, nil)
	r := rand.New(rand.NewPCG(1, 2))
	kinds := []string{store.AccountingStart, store.AccountingInterim, store.AccountingInterim, store.AccountingStop}
	var all sync.WaitGroup
	for i := range 400 {
		kind, session, n := kinds[r.IntN(len(kinds))], fmt.Sprint("s", r.IntN(20)), int64(r.IntN(1000))
		all.Go(func() {
			says(t, k, kind, session, func(r *Report) {
				r.Seconds, r.In, r.MAC = n, n*10, fmt.Sprintf("02-00-5E-00-00-%02X", i%3)
			})
		})
		if i%50 == 49 {
			all.Wait()
		}
	}
	want := summary(k)
	if len(want) == 0 || len(want) > 20 {
		t.Fatalf("%d sessions are open", len(want))
	}
	k.Close()
	for _, forget := range []bool{false, true} {
		if forget {
			for _, more := range []string{"", "-wal", "-shm"} {
				os.Remove(filepath.Join(dir, "sessions.db"+more))
			}
		}
		k = openIn(t, dir, nil)
		if got := summary(k); !slices.Equal(got, want) {
			t.Errorf("with what was saved forgotten: %v; there are\n%v\nwanted\n%v", forget, got, want)
		}
		for _, s := range want {
			var name, id string
			fmt.Sscan(s, &name, &id)
			if at, _ := ident.Parse(id); k.Find(at) == nil {
				t.Errorf("session %s is not found by its identifier", id)
			}
		}
		k.Close()
	}
}

func TestASilentSessionEnds(t *testing.T) {
	k := openIn(t, t.TempDir(), nil)
	defer k.Close()
	says(t, k, store.AccountingStart, "quiet", func(r *Report) { r.Silence = time.Minute })
	says(t, k, store.AccountingStart, "patient", nil)
	k.silent(time.Now().Add(59 * time.Second))
	time.Sleep(50 * time.Millisecond)
	if k.Len() != 2 {
		t.Fatalf("%d are open before the time is over", k.Len())
	}
	k.silent(time.Now().Add(2 * time.Minute))
	for deadline := time.Now().Add(3 * time.Second); k.Len() != 1 && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	if got := summary(k); len(got) != 1 || got[0][:7] != "patient" {
		t.Errorf("open are %v", got)
	}
	page, err := k.Records().Find(context.Background(), store.AccountingFilter{Ended: true, Limit: 10})
	if err != nil || len(page.Items) != 1 || page.Items[0].Cause != causeSilent {
		t.Errorf("ended are %+v, %v", page.Items, err)
	}
}

// A session that is authenticated again goes on with what that gave; a change by an operator stays until then.
func TestASessionThatIsAuthenticatedAgain(t *testing.T) {
	k := openIn(t, t.TempDir(), nil)
	defer k.Close()
	give := func(pass, vlan string) string {
		value, class := NewClass()
		k.Gave(Given{At: time.Now(), Client: "c", Who: "k.nance", MAC: "02-00-5E-00-00-01", Class: class, Pass: pass,
			VLAN: vlan})
		return string(value)
	}
	now := func() *Session { list, _ := k.List(Filter{}); return list[0] }
	class := give("crew", "30")
	var seconds int64
	with := func(class string) func(*Report) {
		return func(r *Report) {
			r.Classes, r.Seconds, r.Applied = [][]byte{[]byte(class)}, seconds, "30"
			seconds++
		}
	}
	says(t, k, store.AccountingStart, "s", with(class))
	if s := now(); s.Pass != "crew" || s.Applied != "30" {
		t.Fatalf("it begins with %+v", s)
	}
	if err := k.Asked(context.Background(), now(), Asked{What: "x", By: "y", Done: true, Pass: "quarantine",
		VLAN: "99"}); err != nil {
		t.Fatal(err)
	}
	if s := now(); s.Pass != "quarantine" || s.VLAN != "99" || s.Applied != "" {
		t.Errorf("after it was changed: %+v", s)
	}
	says(t, k, store.AccountingInterim, "s", with(class))
	if s := now(); s.Pass != "quarantine" {
		t.Errorf("a record of the same session gives it %s", s.Pass)
	}
	time.Sleep(time.Millisecond)
	again := give("bridge", "40")
	says(t, k, store.AccountingInterim, "s", with(again))
	if s := now(); s.Pass != "bridge" || s.VLAN != "40" || k.Len() != 1 {
		t.Errorf("authenticated again: %+v", s)
	}
	give("crew", "30")
	says(t, k, store.AccountingInterim, "s", with(again)) // a client that goes on with the first Class
	if s := now(); s.Pass != "crew" {
		t.Errorf("authenticated again without another Class: %+v", s)
	}
}

// Each session that is given up for others is given up once, and only as many as have to be.
func TestTheOldestGiveWay(t *testing.T) {
	b := newBook(nil)
	for i := range maxOfClient {
		b.begin(key{"flood", "n", fmt.Sprint(i)}, &Session{Accounted: store.Accounted{ID: ident.ID(i + 1),
			Client: "flood", NAS: "n", Session: fmt.Sprint(i)}}, time.Now())
	}
	b.begin(key{"other", "n", "1"}, &Session{Accounted: store.Accounted{ID: maxOfClient + 1, Client: "other"}},
		time.Now())
	if len(b.surplus("other")) != 0 {
		t.Error("another client's sessions give way")
	}
	first, again := b.surplus("flood"), b.surplus("flood")
	if len(first) != maxOfClient/100 || len(again) != 0 || first[0].ID != 1 || first[len(first)-1].Client != "flood" {
		t.Fatalf("%d and %d give way", len(first), len(again))
	}
	for _, s := range first {
		b.close(keyOf(&s.Accounted), b.open[keyOf(&s.Accounted)], true)
	}
	if b.leaving != 0 || len(b.surplus("flood")) != 0 || b.clients["flood"] != maxOfClient-len(first) {
		t.Errorf("%d are leaving, %d of the client are open", b.leaving, b.clients["flood"])
	}
}

func TestWhatWasGivenIsBounded(t *testing.T) {
	b := newBook(nil)
	now := time.Now()
	for i := range maxGiven + 100 {
		b.Gave(Given{At: now, Client: "c", Who: fmt.Sprint("p", i), Class: fmt.Sprint(i)})
	}
	if len(b.given.byClass) > maxGiven || len(b.given.byName) > maxGiven {
		t.Errorf("%d and %d are kept", len(b.given.byClass), len(b.given.byName))
	}
	if v, _ := b.given.find("5", "c", "", "nobody", now); v != nil {
		t.Error("the oldest is still there")
	}
	last := fmt.Sprint(maxGiven + 50)
	if v, foreign := b.given.find(last, "other", "", "", now); v != nil || !foreign {
		t.Error("a Class counts from another client")
	}
	if v, _ := b.given.find("", "c", "", "p"+last, now.Add(joinedByName)); v != nil {
		t.Error("a name is joined long after")
	}
	if value, recorded := NewClass(); readClass(value) != recorded || readClass([]byte("tk1234567")) != "" ||
		readClass(value[1:]) != "" {
		t.Error("a Class does not come back")
	}
}

func BenchmarkReport(b *testing.B) {
	k := openIn(b, b.TempDir(), nil)
	defer k.Close()
	b.SetParallelism(256)
	var n int64
	var mu sync.Mutex
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			mu.Lock()
			n++
			i := n
			mu.Unlock()
			says(b, k, store.AccountingInterim, fmt.Sprint("s", i%1000), func(r *Report) { r.Seconds = i })
		}
	})
}

// A client that sends no Class, and the name with a realm, reports the session of the same person: it counts.
func TestASessionIsCountedWhateverItsNameLooksLike(t *testing.T) {
	k := openIn(t, t.TempDir(), nil)
	defer k.Close()
	macs := []string{"02-00-5E-00-00-01", "02-00-5E-00-00-02", "02-00-5E-00-00-03"}
	for i, sent := range []string{`LANTERN\K.Nance`, "k.nance@lanternferries.example", "k.nance"} {
		_, class := NewClass()
		k.Gave(Given{At: time.Now(), Client: "c", Who: "k.nance", MAC: macs[i], Class: class, Pass: "Crew",
			Counted: true})
		if n := k.Count("k.nance", "other"); n == nil || n.With["crew"] != i+1 {
			t.Errorf("%s was admitted, and counted are %+v", sent, n)
		}
		says(t, k, store.AccountingStart, fmt.Sprint("s-", i), func(r *Report) { r.Who, r.MAC = sent, macs[i] })
		if n := k.Count("k.nance", macs[i]); i > 0 && (n == nil || n.All != i) || i == 0 && n != nil {
			t.Errorf("%s: counted on other devices are %+v", sent, n)
		}
	}
	k.given.init() // the thirty seconds are over
	if n := k.Count("k.nance", "other"); n == nil || n.With["crew"] != 3 {
		t.Errorf("open are %v, and counted %+v", summary(k), n)
	}
	if list := k.Oldest("k.nance", macs[0], "crew", 5); len(list) != 2 || list[0].Session != "s-1" {
		t.Errorf("the oldest are %+v", list)
	}
	if k.Count("somebody", "") != nil {
		t.Error("somebody else has sessions")
	}
}
