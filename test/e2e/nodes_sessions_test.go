package e2e

import (
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

// switches are stand-ins that take changes of the sessions of the basic client.
func (w *world) switches() *lab.Changes {
	w.t.Helper()
	c, err := lab.TakeChanges("127.0.0.1:0", secret, lab.Willing)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(c.Close)
	w.changeable(c, nil)
	return c
}

// reportTo reports a session of k.nance to a node.
func reportTo(t *testing.T, server, session, kind string, attributes ...results.Attribute) {
	t.Helper()
	r := trial.Report{Server: server, From: must("127.0.0.1"), Secret: secret, Timeout: 2 * time.Second, Tries: 3,
		Attributes: append([]results.Attribute{{Name: "Acct-Status-Type", Value: kind},
			{Name: "Acct-Session-Id", Value: session}, {Name: "User-Name", Value: "k.nance"}}, attributes...)}
	if err := r.Send(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// Sessions are asked for wherever they were reported: those of all nodes at once, and those of a node that is dead by
// one that has copies of its records. One that goes on at another node stands in the list once.
func TestSessionsOfAllNodesAreAskedFor(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("auto", "127.0.0.1")
	switches := a.switches()
	token, dir := a.invite("second"), t.TempDir()
	web, reports := free(t), free(t)
	args := []string{"-data", dir, "-http", web, "-radius", "127.0.0.1:0", "-accounting", reports, "-radius-tls=",
		"-radius-dtls=", "-tacacs", "none", "-tacacs-tls", "none", "-node-address", "127.0.0.1:0"}
	second := runNode(t, append(args, "-join", token)...)
	a.witness("eye")
	a.well(3)
	a.copied(2)
	here := a.app.Accounting[0].String()
	for session, server := range map[string]string{"a-1": here, "b-1": reports, "b-2": reports, "b-3": reports} {
		reportTo(t, server, session, "Start")
		switches.Open(session, func(*radius.Packet) {})
	}
	all := apitype.SessionsAsk{SessionAsk: apitype.SessionAsk{Action: "reauthenticate"}, Client: "np-switch-1",
		Preview: true}
	var out apitype.SessionsAnswer
	a.do(http.MethodPost, "/sessions-ask", all, &out)
	if out.Count != 4 || len(out.Missing) != 0 || len(switches.Asked()) != 0 {
		t.Errorf("the preview says %+v, and asked %v", out, switches.Asked())
	}
	all.Preview = false
	a.do(http.MethodPost, "/sessions-ask", all, &out)
	if out.Count != 4 || out.Done != 4 || len(switches.Asked()) != 4 {
		t.Errorf("asking for all: %+v, asked %v", out, switches.Asked())
	}
	var differ apitype.DifferingSessions
	a.do(http.MethodGet, "/sessions-differing", nil, &differ)
	if differ.Looked != 4 || len(differ.Missing) != 0 {
		t.Errorf("of all nodes %d sessions are looked at, missing %v", differ.Looked, differ.Missing)
	}

	helper := a.operator("h.ward", "reception")
	second.kill()
	a.nodesAre("without the second", func(n apitype.Nodes) bool {
		return slices.ContainsFunc(n.Items, func(one apitype.Node) bool {
			return one.Name == "second" && one.State == "silent"
		})
	})
	open := func() map[string]apitype.Session {
		list, _ := allOf[apitype.Session](a, "/sessions")
		found := map[string]apitype.Session{}
		for _, one := range list {
			if _, twice := found[one.Session]; twice {
				t.Errorf("%s is open twice", one.Session)
			}
			found[one.Session] = one
		}
		return found
	}
	sessions := open()
	if len(sessions) != 4 {
		t.Fatalf("open are %+v", sessions)
	}
	// one of the dead node, by itself
	id := sessions["b-1"].ID
	if reply := a.askSession(id, apitype.SessionAsk{Action: "disconnect"}); !reply.Done || reply.Answer !=
		"Disconnect-ACK" {
		t.Errorf("asking for a session of a node that is dead: %+v", reply)
	}
	a.refused(http.StatusUnprocessableEntity, http.MethodPost, "/sessions/"+id+"/ask",
		apitype.SessionAsk{Action: "change", Pass: "nothing"}, "there is no pass")
	var detail apitype.SessionDetail
	a.do(http.MethodGet, "/sessions/"+id, nil, &detail)
	if len(detail.Story) != 3 || !strings.Contains(detail.Story[2].Text, "Asked by o.brandt: disconnect: done") {
		t.Errorf("its story is %+v", detail.Story)
	}
	a.wants(0, []string{"session", "show", id}, "disconnect: done")
	// its client reports the end to the node that is left, another one goes on there
	reportTo(t, here, "b-1", "Stop")
	reportTo(t, here, "b-2", "Interim-Update", results.Attribute{Name: "Acct-Session-Time", Value: "77"})
	sessions = open()
	if len(sessions) != 3 || sessions["b-2"].Seconds != 77 || sessions["b-2"].Node == "second" {
		t.Errorf("after an end and a word at the other node, open are %+v", sessions)
	}
	before := len(switches.Asked())
	all.Action = "disconnect"
	a.do(http.MethodPost, "/sessions-ask", all, &out)
	if out.Count != 3 || out.Done != 3 || len(switches.Asked()) != before+3 || len(out.Missing) != 0 {
		t.Errorf("asking for all with a node dead: %+v, asked %v", out, switches.Asked()[before:])
	}
	if status, _ := a.bare(helper, http.MethodPost, "/sessions/"+id+"/ask"); status != http.StatusForbidden {
		t.Errorf("a role that may not ask gets %d", status)
	}
	// it comes back, and lets go of the session that goes on here
	runNode(t, args...)
	b := &world{t: t, dir: dir, api: &client.Client{URL: "http://" + web, Token: a.api.Token}}
	a.well(3)
	begun := time.Now()
	for sessions = nil; len(sessions) != 3; time.Sleep(100 * time.Millisecond) {
		list, page := allOf[apitype.Session](b, "/sessions")
		sessions = map[string]apitype.Session{}
		for _, one := range list {
			sessions[one.Session+" at "+one.Node] = one
		}
		if time.Since(begun) > 20*time.Second {
			t.Fatalf("after it came back, open are %+v, missing %v", list, page.Missing)
		}
	}
	if _, goesOn := sessions["b-2 at "+a.nodeName()]; !goesOn {
		t.Errorf("after it came back, open are %+v", sessions)
	}
}

// A limit of sessions counts those of all nodes, and the oldest of them ends wherever it is; also after a node was
// started again.
func TestALimitCountsSessionsOfAllNodes(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("auto", "127.0.0.1")
	switches := a.switches()
	a.wants(0, []string{"pass", "change", "crew", "-max-sessions", "1", "-publish"}, "published")
	b := a.second("second")
	a.witness("eye")
	a.well(3)
	try := func(w *world, mac string) bool {
		t.Helper()
		reply, err := w.ask(func(r *trial.Request) { r.Attributes[2].Value = mac })
		return err == nil && reply.Accepted
	}
	const first, other = "00-00-5E-00-53-01", "00-00-5E-00-53-02"
	b.admits("k.nance", "gangway-and-rope") // it has the configuration; that admission counts for a while
	d := a.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start")
	switches.Open("s-1", func(*radius.Packet) { d.must("Stop", "Acct-Terminate-Cause=Admin-Reset") })
	knows := func() bool { // who is admitted before counts for a while
		open := b.app.Sessions.Count("k.nance", other)
		return open != nil && open.All == 1
	}
	b.eventually("the other node knows of it", knows)
	if try(b, other) {
		t.Error("one more is admitted at the other node")
	}
	if n := b.newest(len(b.recorded())); n.Reason != "sessions.limit" {
		t.Errorf("refused for %s", n.Reason)
	}
	b.app.Stop()
	b.boot()
	b.eventually("it knows of it after a start", knows)
	if try(b, other) {
		t.Error("one more is admitted after a start")
	}
	if !try(b, "00-00-5E-00-53-07") {
		t.Error("the same device is refused at the other node")
	}
	a.wants(0, []string{"pass", "change", "crew", "-at-limit", "end-oldest", "-publish"}, "published")
	b.eventually("one more is admitted, and the oldest is to end", func() bool { return try(b, first) })
	a.eventually("the oldest ends at its node", func() bool {
		return len(switches.Asked()) > 0 && a.openSessions("").Open == 0
	})
}

// An operator who is limited to some clients sees who is at the addresses of sessions on them, whichever node these
// were reported to, also when that is dead; and nobody else, such as on the same host.
func TestPresenceOfLimitedOperatorsAtAllNodes(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("auto", "127.0.0.1")
	b := a.second("second")
	a.witness("eye")
	a.well(3)
	a.copied(2)
	b.admits("k.nance", "gangway-and-rope")
	near, far := a.as(a.operator("h.vane", "engineer")), a.as(a.operator("e.marsh", "engineer"))
	a.wants(0, []string{"operator", "change", "h.vane", "-clients", "site=north-pier"}, "")
	a.wants(0, []string{"operator", "change", "e.marsh", "-clients", "site=south-pier"}, "")
	for session, one := range map[string]struct {
		at           *world
		mac, address string
	}{"a-1": {a, "00-00-5E-00-53-07", "198.51.100.9"}, "b-1": {b, "00-00-5E-00-53-08", "198.51.100.10"},
		"b-2": {b, "00-00-5E-00-53-09", "198.51.100.11"}} {
		one.at.signIn(session, one.mac).must("Start", "Framed-IP-Address="+one.address)
	}
	for _, address := range []string{"198.51.100.10", "198.51.100.12"} { // beside one of them, and where none is
		a.do(http.MethodPost, "/presence/sightings", apitype.SightingFields{Kind: "signed-in", Who: "l.orme",
			Address: address, Ports: "2000-2999"}, nil)
	}
	a.eventually("all of it is known", func() bool {
		var page apitype.PresencePage
		a.do(http.MethodGet, "/presence", nil, &page)
		return len(page.Items) == 5
	})
	addresses := func(w *world, query string) (out []string, page apitype.PresencePage) {
		t.Helper()
		w.do(http.MethodGet, "/presence"+query, nil, &page)
		for _, one := range page.Items {
			if one.Who != "k.nance" {
				t.Errorf("it sees %+v", one)
			}
			out = append(out, one.Address)
		}
		return out, page
	}
	all := []string{"198.51.100.9", "198.51.100.10", "198.51.100.11"}
	whole := func() bool {
		list, page := addresses(near, "")
		return slices.Equal(list, all) && page.Total == 3 && page.Next == "" && len(page.Missing) == 0
	}
	for _, w := range []*world{near, b.as(near.api.Token)} {
		w.eventually("it sees its three", whole)
	}
	if list, page := addresses(near, "?limit=2"); !slices.Equal(list, all[:2]) || page.Next != all[1] {
		t.Errorf("the first page is %v, on after %q", list, page.Next)
	}
	if list, page := addresses(near, "?limit=2&after="+all[1]); !slices.Equal(list, all[2:]) || page.Next != "" {
		t.Errorf("the second page is %v, on after %q", list, page.Next)
	}
	if list, _ := addresses(far, ""); len(list) != 0 {
		t.Errorf("of clients elsewhere it sees %v", list)
	}
	look := func() {
		t.Helper()
		var who apitype.PresenceAnswer
		near.do(http.MethodGet, "/presence/who?address="+all[1], nil, &who)
		if len(who.Standings) != 1 || who.Here == nil || who.Here.Who != "k.nance" || len(who.Missing) != 0 {
			t.Errorf("at %s is %+v", all[1], who)
		}
		near.refused(http.StatusForbidden, http.MethodGet, "/presence/who?port=2500&address="+all[1], nil, "limited")
		near.refused(http.StatusForbidden, http.MethodGet, "/presence/who?address=198.51.100.12", nil, "limited")
		far.refused(http.StatusForbidden, http.MethodGet, "/presence/who?address="+all[1], nil, "limited")
	}
	look()
	near.refused(http.StatusUnprocessableEntity, http.MethodGet, "/presence?in=nowhere", nil, "192.0.2.0/24")
	a.copied(2)
	b.app.Stop()
	a.nodesAre("without the second", func(n apitype.Nodes) bool {
		return slices.ContainsFunc(n.Items, func(one apitype.Node) bool {
			return one.Name == "second" && one.State == "silent"
		})
	})
	near.eventually("it sees its three by the copies", whole)
	look()
}
