package session

import (
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// A session that its client reports to another node since is let go of here, and its address stays taken: it is in use.
// What the other node heard before counts for nothing, and what began there is no session that left.
func TestASessionThatLeft(t *testing.T) {
	dir := t.TempDir()
	leases, s := open(t, dir)
	defer s.Close()
	defer leases.Close()
	pool := NewPool(&config.Pool{Name: "decks", Ranges: []string{"10.0.0.1-10.0.0.9"}})
	here, there := openIn(t, dir, leases), openIn(t, t.TempDir(), nil)
	defer here.Close()
	defer there.Close()
	addr := leases.Take(pool, "holder", "Kim", "c", time.Now(), time.Hour)
	const goesOn, ends, stays = "goes-on", "ends", "stays"
	for _, session := range []string{goesOn, ends, stays} {
		says(t, here, store.AccountingStart, session, func(r *Report) {
			r.At = time.Now().Add(-time.Minute)
			if session == goesOn {
				r.Display, r.Address = "Kim", addr.String()
			}
		})
	}
	says(t, there, store.AccountingInterim, goesOn, func(r *Report) { r.Address = addr.String() })
	says(t, there, store.AccountingStop, ends, nil)
	says(t, there, store.AccountingStart, stays, nil)
	says(t, there, store.AccountingInterim, stays, func(r *Report) { r.Seconds = 5 })
	told := there.TakeMoved()
	if len(told) != 2 || told[0].Session != goesOn || told[1].Session != ends || len(there.TakeMoved()) != 0 {
		t.Errorf("other nodes are told of %+v", told)
	}
	again, err := there.MovedSince(t.Context(), time.Now().Add(-time.Hour))
	if err != nil || len(again) != 2 {
		t.Errorf("one that missed it is told of %+v, %v", again, err)
	}
	late := told[0]
	late.At = time.Now().Add(-time.Hour)
	here.Left([]Moved{late, {Client: "c", NAS: "n", Session: "unknown", At: time.Now()}})
	here.Left(told)
	for begun := time.Now(); here.Len() != 1; time.Sleep(5 * time.Millisecond) {
		if time.Since(begun) > 5*time.Second {
			t.Fatalf("open are %v", summary(here))
		}
	}
	if list := leases.List("", time.Now()); len(list) != 1 || list[0].Address != addr {
		t.Errorf("taken are %+v", list)
	}
	page, err := here.Records().Find(t.Context(), store.AccountingFilter{Ended: true, Limit: 10})
	if err != nil || len(page.Items) != 2 || page.Items[0].Cause != CauseElsewhere {
		t.Errorf("ended are %+v, %v", page.Items, err)
	}
}

// A device tells again that it began anew, since it got no answer: sessions that began meanwhile go on.
func TestARestartThatIsToldLate(t *testing.T) {
	k := openIn(t, t.TempDir(), nil)
	defer k.Close()
	says(t, k, store.AccountingStart, "before", func(r *Report) { r.At = time.Now().Add(-time.Minute) })
	says(t, k, store.AccountingStart, "since", nil)
	says(t, k, store.AccountingOn, "", func(r *Report) { r.At, r.Who = time.Now().Add(-3*time.Second), "" })
	for begun := time.Now(); k.Len() != 1; time.Sleep(5 * time.Millisecond) {
		if time.Since(begun) > 5*time.Second {
			t.Fatalf("open are %v", summary(k))
		}
	}
	time.Sleep(50 * time.Millisecond)
	if list, _ := k.List(Filter{}); len(list) != 1 || list[0].Session != "since" {
		t.Errorf("open are %v", summary(k))
	}
}
