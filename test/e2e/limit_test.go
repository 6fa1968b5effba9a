package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/radius"
)

// A person may have so many sessions with a pass at once: one more is refused, or the oldest ends. The same device
// again is no further one, and many at the same time do not slip through before they are heard of.
func TestSessionsAtOnce(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	switches, err := lab.TakeChanges("127.0.0.1:0", secret, lab.Willing)
	if err != nil {
		t.Fatal(err)
	}
	defer switches.Close()
	w.changeable(switches, nil)
	w.refused(422, http.MethodPost, "/passes", apitype.PassFields{Name: "x", MaxSessions: 5000},
		"5000 sessions are out of range")
	w.wants(0, []string{"pass", "change", "crew", "-max-sessions", "2", "-publish"}, "published")
	w.wants(0, []string{"pass", "show", "crew"}, "2 of one person, more are refused")
	mac := func(i int) string { return fmt.Sprintf("00-00-5E-00-53-%02X", i) }
	try := func(i int) bool {
		t.Helper()
		reply, err := w.ask(func(r *trial.Request) { r.Attributes[2].Value = mac(i) })
		if err != nil {
			t.Error(err)
		}
		return reply.Accepted
	}
	// ten devices at the same moment
	var all sync.WaitGroup
	var mu sync.Mutex
	admitted := 0
	for i := range 10 {
		all.Go(func() {
			if try(i) {
				mu.Lock()
				defer mu.Unlock()
				admitted++
			}
		})
	}
	all.Wait()
	if admitted != 2 {
		t.Errorf("%d of ten devices were admitted at once", admitted)
	}
	other := start(t)
	other.basic("auto", "127.0.0.1")
	other.wants(0, []string{"pass", "change", "crew", "-max-sessions", "2", "-publish"}, "published")
	w = other
	w.changeable(switches, nil)
	devices := map[string]*device{}
	for i := range 2 {
		session := fmt.Sprint("s-", i)
		devices[session] = w.signIn(session, mac(i))
		devices[session].must("Start")
		switches.Open(session, func(*radius.Packet) {
			devices[session].must("Stop", "Acct-Terminate-Cause=Admin-Reset")
		})
		time.Sleep(5 * time.Millisecond)
	}
	if try(2) {
		t.Fatal("a third device was admitted")
	}
	a := w.newest(3)
	if a.Reason != "sessions.limit" || !strings.Contains(a.Trace.Sentence,
		"has 2 open sessions with pass crew, and at most 2") ||
		a.Facts.Open == nil || a.Facts.Open.All != 2 {
		t.Errorf("%s: %s, %+v", a.Reason, a.Trace.Sentence, a.Facts.Open)
	}
	w.wants(0, []string{"attempt", "explain"}, "fewer than 2 open sessions with pass crew")
	if !try(1) {
		t.Error("the same device again is refused")
	}
	devices["s-0"].must("Stop")
	if !try(2) {
		t.Error("refused although one has ended")
	}
	// The oldest gives way.
	w.wants(0, []string{"pass", "change", "crew", "-at-limit", "end-oldest", "-publish"}, "published")
	third := w.signIn("s-2", mac(2))
	third.must("Start")
	if !try(3) {
		t.Fatal("not admitted although the oldest is to end")
	}
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if page := w.openSessions(""); len(page.Items) == 1 {
			break
		}
	}
	page := w.openSessions("")
	if len(page.Items) != 1 || page.Items[0].Session != "s-2" {
		t.Fatalf("open are %+v", page.Items)
	}
	// Conditions ask how many there are.
	w.wants(0, []string{"pass", "change", "crew", "-max-sessions", "0", "-publish"}, "published")
	w.wants(0, []string{"policy", "change", "Wired", "Crew", "-when", "group is Crew and not sessions.open at least 1",
		"-publish"}, "published")
	if try(5) {
		t.Error("a policy for the first session admits a second")
	}
	for field, fits := range map[string]bool{"sessions.pass.crew": true, "sessions.pass.visitors": false,
		"sessions.lane.wired": true, "sessions.lane.vpn": false} {
		w.wants(0, []string{"policy", "change", "Wired", "Crew", "-when", "group is Crew and " + field + " at least 1",
			"-publish"}, "published")
		if try(5) != fits {
			t.Errorf("with one session open, %s at least 1 does not give %v", field, fits)
		}
	}
	third.must("Stop")
}
