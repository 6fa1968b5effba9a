package session

import (
	"fmt"
	"testing"
	"time"

	"tollgate.example/key/internal/store"
)

// Sessions count wherever they are open, each once: what a node tells anew takes the place of what it told before, one
// that came here counts here, and those of a node that has been silent for too long, or is none any more, do not count.
func TestSessionsOfOtherNodesCount(t *testing.T) {
	k := openIn(t, t.TempDir(), nil)
	defer k.Close()
	const who, mac = "k.nance", "02-00-5E-00-00-01"
	there := func(session, mac string) Counted {
		return Counted{Who: who, MAC: mac, Client: "c", NAS: "n", Session: session, Pass: "Crew", Lane: "Wired",
			Began: time.Now().Add(-time.Hour), Silence: time.Minute}
	}
	count := func() int {
		if open := k.Count(who, "02-00-5E-00-00-99"); open != nil {
			return open.With["crew"]
		}
		return 0
	}
	silent, known := time.Duration(0), true
	k.Silent(func(node int) (time.Duration, bool) { return silent, known })
	wants := func(what string, want int) {
		t.Helper()
		if got := count(); got != want {
			t.Errorf("%s, %d count instead of %d", what, got, want)
		}
	}
	k.Counts(2, []Counted{there("a", mac), there("b", "02-00-5E-00-00-02"), {Who: "l.orme", Session: "x"}}, true)
	wants("as another node told", 2)
	if k.Count(who, mac).All != 1 {
		t.Error("the same device again counts as another one")
	}
	k.Counts(2, []Counted{there("b", "02-00-5E-00-00-02")}, false)
	wants("told again", 2)
	old := k.Oldest(who, "", "crew", 5)
	if len(old) != 2 || old[0].ID != 0 || old[0].Node != 2 {
		t.Errorf("the oldest are %+v", old)
	}
	says(t, k, store.AccountingInterim, "a", func(r *Report) { r.Pass, r.Lane = "Crew", "Wired" })
	wants("one came here", 1+1)
	over := there("b", "")
	over.Over = true
	k.Counts(2, []Counted{over}, false)
	wants("one ended there", 1)
	k.Counts(2, []Counted{{Who: who, MAC: "02-00-5E-00-00-03", Pass: "crew"}}, false)
	wants("one was admitted there", 2)
	k.Counts(2, []Counted{there("c", "02-00-5E-00-00-03")}, false)
	wants("its session began", 2)
	if silent = 2 * time.Minute; true {
		wants("its node is silent for long", 1)
	}
	if silent, known = 0, false; true {
		wants("its node was removed", 1)
	}
	known = true
	k.Counts(2, nil, true)
	wants("the node began anew", 1)
	// what one tells is bounded
	var flood []Counted
	for i := range 10_000 {
		flood = append(flood, there(fmt.Sprint("f", i), fmt.Sprintf("02-00-5E-01-%02X-%02X", i>>8, i&255)))
	}
	if k.Counts(3, flood, true); count() > maxRecent+1 {
		t.Errorf("%d of one person are kept", count())
	}
}

// Others are told all where sessions begin to be counted, then what changes, and all again where too much did.
func TestWhatOthersAreToldOfSessions(t *testing.T) {
	k := openIn(t, t.TempDir(), nil)
	defer k.Close()
	says(t, k, store.AccountingStart, "before", nil)
	if list, anew := k.TakeCounted(false); anew || len(list) != 0 {
		t.Errorf("where nothing is counted, %+v is told", list)
	}
	if list, anew := k.TakeCounted(true); !anew || len(list) != 1 || list[0].Session != "before" {
		t.Errorf("at first %+v is told, anew %v", list, anew)
	}
	says(t, k, store.AccountingStart, "since", nil)
	says(t, k, store.AccountingStop, "before", func(r *Report) { r.Seconds = 9 })
	if list, anew := k.TakeCounted(true); anew || len(list) != 2 || list[0].Session != "since" || !list[1].Over {
		t.Errorf("then %+v is told, anew %v", list, anew)
	}
	for range maxUntold + 1 {
		k.untold.add(Counted{Who: "x"})
	}
	if list, anew := k.TakeCounted(true); !anew || len(list) != 1 {
		t.Errorf("after very much, %d are told, anew %v", len(list), anew)
	}
}
