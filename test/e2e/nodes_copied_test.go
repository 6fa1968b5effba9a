package e2e

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// free is a free address on loopback that stays free while nobody listens there: the system gives ports from 32768 on
// to whoever connects somewhere.
func free(t testing.TB) string {
	t.Helper()
	for range 100 {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 10_000+rand.IntN(9_000)))
		if err == nil {
			defer l.Close()
			return l.Addr().String()
		}
	}
	t.Fatal("there is no free port")
	return ""
}

// allOf lists records of all nodes, page by page.
func allOf[T any](w *world, path string) (out []T, last apitype.Page[T]) {
	w.t.Helper()
	query := url.Values{"limit": {"70"}}
	for {
		last = apitype.Page[T]{}
		w.do(http.MethodGet, path+"?"+query.Encode(), nil, &last)
		if out = append(out, last.Items...); last.Next == "" {
			return out, last
		}
		query.Set("before", last.Next)
	}
}

// copied waits until a node sees that what so many nodes record is copied.
func (w *world) copied(count int) {
	w.t.Helper()
	w.nodesAre("copied", func(n apitype.Nodes) bool {
		copied := 0
		for _, one := range n.Items {
			if one.Copied {
				copied++
			}
		}
		return copied == count
	})
}

// A node is killed while gear and devices report to it, and its disk is lost: what it acknowledged is found at the
// other node, with the sessions that were open; and still is when the node has been removed.
func TestWhatADeadNodeAcknowledged(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.gear()
	token, dir := a.invite("second"), t.TempDir()
	web, gear, reports := free(t), free(t), free(t)
	victim := runNode(t, "-data", dir, "-http", web, "-radius", "127.0.0.1:0", "-accounting", reports,
		"-radius-tls=", "-radius-dtls=", "-tacacs", gear, "-tacacs-tls", "none",
		"-node-address", "127.0.0.1:0", "-join",
		token)
	b := &world{t: t, dir: dir, tacacs: gear, api: &client.Client{URL: "http://" + web, Token: a.api.Token}}
	a.witness("eye")
	a.well(3)
	a.copied(2)
	a.wants(0, []string{"node", "list"}, "What second records is copied to")

	g := b.device(true)
	b.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor"}, "PASS")
	var mu sync.Mutex
	lines, sessions := map[string]bool{}, map[string]bool{}
	ctx, stop := context.WithCancel(t.Context())
	var load sync.WaitGroup
	for i := range 2 {
		load.Go(func() {
			g := b.device(true)
			for n := 0; ctx.Err() == nil; n++ {
				line := fmt.Sprintf("show interface %d-%d", i, n)
				reply, err := g.Try(ctx, trial.GearAsk{Ask: "stop", User: "ann", Level: 15, Command: line})
				if err != nil || reply.Status != "SUCCESS" {
					return
				}
				mu.Lock()
				lines[line] = true
				mu.Unlock()
			}
		})
		load.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				session := fmt.Sprintf("s-%d-%d", i, n)
				r := trial.Report{Server: reports, From: must("127.0.0.1"), Secret: secret, Timeout: time.Second,
					Tries: 2, Attributes: []results.Attribute{{Name: "Acct-Status-Type", Value: "Start"},
						{Name: "Acct-Session-Id", Value: session}, {Name: "User-Name", Value: "lou"}}}
				if r.Send(ctx) != nil {
					return
				}
				mu.Lock()
				sessions[session] = true
				mu.Unlock()
			}
		})
	}
	time.Sleep(1500 * time.Millisecond)
	victim.kill()
	stop()
	load.Wait()
	if err := os.RemoveAll(dir); err != nil {
		t.Fatal(err)
	}
	if len(lines) < 20 || len(sessions) < 20 {
		t.Errorf("only %d commands and %d sessions were acknowledged", len(lines), len(sessions))
	}
	a.nodesAre("two", func(n apitype.Nodes) bool {
		return n.Majority && slices.ContainsFunc(n.Items, func(one apitype.Node) bool {
			return one.Name == "second" && one.State == "silent"
		})
	})

	there := func(node string, removed bool) {
		t.Helper()
		entries, page := allOf[apitype.JournalEntry](a, "/journal")
		if len(page.Missing) != 0 || len(page.Copied) != 1 || page.Copied[0].Node != node ||
			page.Copied[0].Removed != removed || page.Copied[0].Until == nil ||
			time.Since(*page.Copied[0].Until) > time.Minute {
			t.Errorf("missing %v, copied %+v", page.Missing, page.Copied)
		}
		found := map[string]int{}
		for _, e := range entries {
			found[e.Command]++
		}
		missing := 0
		for line := range lines {
			if found[line] != 1 {
				missing++
			}
		}
		open, _ := allOf[apitype.Session](a, "/sessions")
		found = map[string]int{}
		for _, s := range open {
			found[s.Session]++
		}
		gone := 0
		for session := range sessions {
			if found[session] != 1 {
				gone++
			}
		}
		if missing > 0 || gone > 0 {
			t.Errorf("of %d acknowledged commands %d are missing or twice, of %d sessions %d", len(lines), missing,
				len(sessions), gone)
		}
		var entry apitype.JournalEntry
		a.do(http.MethodGet, "/journal/"+entries[0].ID, nil, &entry)
		var detail apitype.SessionDetail
		a.do(http.MethodGet, "/sessions/"+open[0].ID, nil, &detail)
		if entry.Command != entries[0].Command || detail.User != "lou" || len(detail.Story) != 1 {
			t.Errorf("by themselves: %+v, %+v", entry, detail)
		}
	}
	there("second", false)
	a.wants(0, []string{"journal", "list", "-user", "ann"}, "show interface", "second does not answer", "from a copy")
	out := a.wants(0, []string{"journal", "export"}, "second does not answer", "from a copy")
	if n := strings.Count(out, "show interface"); n < len(lines) {
		t.Errorf("%d of %d commands are exported", n, len(lines))
	}
	attempts, _ := allOf[apitype.Attempt](a, "/attempts")
	if len(attempts) != 1 || attempts[0].Node != "second" {
		t.Fatalf("attempts: %+v", attempts)
	}
	var road apitype.AttemptDetail
	a.do(http.MethodGet, "/attempts/"+attempts[0].ID, nil, &road)
	if road.User != "ann" || !strings.Contains(road.Sentence, "Admins") {
		t.Errorf("the road: %+v", road.Attempt)
	}
	if reply := a.askSession(lastSession(a), apitype.SessionAsk{Action: "disconnect"}); reply.Done ||
		!strings.Contains(reply.Answer, "nothing listens on") {
		t.Errorf("asking for a session of a node that is dead: %+v", reply)
	}
	helper := a.operator("h.ward", "reception")
	if status, _ := a.bare(helper, http.MethodGet, "/journal"); status != http.StatusForbidden {
		t.Errorf("a role that may not look gets %d", status)
	}
	a.do(http.MethodDelete, "/nodes/second", nil, nil)
	there("second", true)
}

// What is recorded at either node is in the export of both, in one order, and on the stream of both as it is recorded.
func TestExportsAndStreamsOfAllNodes(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.gear()
	b := a.second("second")
	a.well(2)
	b.entered("show zero")
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	var mu sync.Mutex
	seen := map[string]string{} // the node of a command
	begun := make(chan bool, 1)
	go a.api.Stream(ctx, http.MethodGet, "/journal-live", nil, func(e client.Event) bool {
		if e.Name == "beat" {
			select {
			case begun <- true:
			default:
			}
			return true
		}
		var one apitype.JournalEntry
		if err := json.Unmarshal(e.Data, &one); err != nil {
			t.Error(err)
		}
		mu.Lock()
		defer mu.Unlock()
		seen[one.Command] = one.Node
		return true
	})
	<-begun
	var want []string
	a.eventually("the stream shows what both record", func() bool {
		for i, w := range []*world{a, b} {
			line := fmt.Sprintf("show %d %d", i, len(want))
			w.entered(line)
			want = append(want, line)
		}
		mu.Lock()
		defer mu.Unlock()
		return len(seen) >= 6 && seen[want[len(want)-1]] == "second"
	})
	mu.Lock()
	for i, line := range want[len(want)-4:] {
		if node := []string{a.nodeName(), "second"}[i%2]; seen[line] != node {
			t.Errorf("%s is of %q on the stream, instead of %s", line, seen[line], node)
		}
	}
	mu.Unlock()
	want = append([]string{"show zero"}, want...)
	for _, w := range []*world{a, b} {
		out := w.wants(0, []string{"journal", "export", "-format", "jsonl"})
		var got []string
		for line := range strings.Lines(out) {
			var one apitype.JournalEntry
			if err := json.Unmarshal([]byte(line), &one); err != nil || one.Node == "" {
				t.Fatalf("%s: %v", line, err)
			}
			got = append(got, one.Command)
		}
		if !slices.Equal(got, want) {
			t.Errorf("exported: %q, wanted %q", got, want)
		}
		rows, err := csv.NewReader(strings.NewReader(w.wants(0, []string{"journal", "export"}))).ReadAll()
		if err != nil || len(rows) != len(want)+1 || rows[0][len(rows[0])-1] != "node" {
			t.Errorf("as CSV: %d rows, %v", len(rows), err)
		}
	}
	helper := a.operator("h.ward", "reception")
	if status, _ := a.bare(helper, http.MethodGet, "/journal-export"); status != http.StatusForbidden {
		t.Errorf("a role that may not look exports, with %d", status)
	}
	if status, _ := a.bare(helper, http.MethodGet, "/journal-live"); status != http.StatusForbidden {
		t.Errorf("a role that may not look follows, with %d", status)
	}
	b.app.Stop()
	a.nodesAre("one", func(n apitype.Nodes) bool { return n.Items[1].State == "silent" })
	out := a.wants(0, []string{"journal", "export", "-format", "jsonl"}, "second does not answer")
	if n := strings.Count(out, `"command":"show 1 `); n != (len(want)-1)/2 {
		t.Errorf("%d commands of the node that is gone are exported", n)
	}
}

// A session that began at one node goes on at the other one with the pass that the first gave it.
func TestASessionGoesOnAtTheOtherNode(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("require", "127.0.0.1")
	b := a.second("second")
	a.well(2)
	a.copied(2)
	b.admits("k.nance", "gangway-and-rope") // it has the configuration
	reply, err := a.ask(nil)
	if err != nil || !reply.Accepted {
		t.Fatalf("%+v, %v", reply, err)
	}
	time.Sleep(time.Second) // an attempt is copied soon, and nobody waits for that
	r := trial.Report{Server: b.app.Accounting[0].String(), From: must("127.0.0.1"), Secret: secret,
		Timeout: 2 * time.Second, Tries: 3, Attributes: []results.Attribute{
			{Name: "Acct-Status-Type", Value: "Interim-Update"}, {Name: "Acct-Session-Id", Value: "s-77"},
			{Name: "User-Name", Value: "k.nance"}, {Name: "Class", Value: values(reply, "Class")}}}
	if err := r.Send(t.Context()); err != nil {
		t.Fatal(err)
	}
	open, _ := allOf[apitype.Session](b, "/sessions")
	if len(open) != 1 || open[0].Pass != "crew" || open[0].Node != "second" {
		t.Errorf("the session is %+v", open)
	}
}

// entered has gear report a command.
func (w *world) entered(line string) {
	w.t.Helper()
	w.asks(w.device(false), trial.GearAsk{Ask: "stop", User: "ann", Level: 15, Command: line}, "SUCCESS")
}

func (w *world) nodeName() string {
	w.t.Helper()
	var n apitype.Nodes
	w.do(http.MethodGet, "/nodes", nil, &n)
	return n.Self
}

func lastSession(w *world) string {
	open, _ := allOf[apitype.Session](w, "/sessions")
	return open[len(open)-1].ID
}
