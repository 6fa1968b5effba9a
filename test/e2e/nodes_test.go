package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// invite makes an invitation.
func (w *world) invite(name string) string {
	w.t.Helper()
	var i apitype.NodeInvitation
	w.do(http.MethodPost, "/nodes", apitype.NodeInput{Name: name}, &i)
	return i.Token
}

// second is another node that joined.
func (w *world) second(name string) *world {
	w.t.Helper()
	out := &world{t: w.t, dir: w.t.TempDir(), join: w.invite(name)}
	out.boot()
	out.api.Token = w.api.Token // operators and their tokens are shared
	return out
}

// nodeProcess is a service in a process of its own, which can be killed.
type nodeProcess struct {
	cmd  *exec.Cmd
	said bytes.Buffer
}

// runNode starts the service, or a witness, as a process.
func runNode(t testing.TB, args ...string) *nodeProcess {
	t.Helper()
	p := &nodeProcess{cmd: exec.Command(filepath.Join(binaries, "tollgated"), args...)}
	p.cmd.Stdout, p.cmd.Stderr = &p.said, &p.said
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		p.kill()
		if t.Failed() {
			t.Logf("a node said:\n%s", p.said.String())
		}
	})
	return p
}

func (p *nodeProcess) kill() {
	p.cmd.Process.Kill()
	p.cmd.Wait()
}

// witness runs a witness.
func (w *world) witness(name string) *nodeProcess {
	w.t.Helper()
	return runNode(w.t, "-data", w.t.TempDir(), "-witness", "-node-address", "127.0.0.1:0", "-join", w.invite(name))
}

// well waits until a node sees so many nodes that do well.
func (w *world) well(count int) apitype.Nodes {
	w.t.Helper()
	return w.nodesAre("well", func(n apitype.Nodes) bool {
		well := 0
		for _, one := range n.Items {
			if one.State == "well" && one.Behind == 0 {
				well++
			}
		}
		return well == count && n.Majority
	})
}

// there waits until a node sees so many nodes that do well, while others write: what they tell of themselves is always
// some entries behind.
func (w *world) there(count int) {
	w.t.Helper()
	w.nodesAre("there", func(n apitype.Nodes) bool {
		well := 0
		for _, one := range n.Items {
			if one.State == "well" {
				well++
			}
		}
		return well == count && n.Majority
	})
}

func (w *world) nodesAre(what string, are func(apitype.Nodes) bool) (n apitype.Nodes) {
	w.t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		w.do(http.MethodGet, "/nodes", nil, &n)
		if are(n) {
			return n
		}
		if time.Now().After(end) {
			w.t.Fatalf("the nodes are not %s: %+v", what, n)
		}
	}
}

// admits waits until a node admits a person, and tells how long that took.
func (w *world) admits(user, password string) time.Duration {
	w.t.Helper()
	begun := time.Now()
	for {
		reply, err := w.ask(func(q *trial.Request) { q.User, q.Password = user, password })
		if err == nil && reply.Accepted {
			return time.Since(begun)
		}
		if time.Since(begun) > 20*time.Second {
			w.t.Fatalf("%s is not admitted: %+v, %v", user, reply, err)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// Two nodes and a witness are one service: what is changed on one is in effect on the other, edits meet as conflicts,
// and either goes on when the other dies.
func TestNodesAreOneService(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("require", "127.0.0.1") // before there are several
	a.wants(0, []string{"node", "list"}, "the only node")
	b := a.second("second")
	a.witness("eye")
	a.well(3)
	b.well(3)
	b.admits("k.nance", "gangway-and-rope")

	// what policies decided is counted together, at either
	a.admits("k.nance", "gangway-and-rope")
	for _, w := range []*world{a, b} {
		w.eventually("the hits of both nodes are counted", func() bool {
			var all apitype.AllHits
			w.do(http.MethodGet, "/hits", nil, &all)
			return len(all.Items) == 1 && all.Items[0].Since+all.Items[0].Before >= 2 && all.Items[0].Hours[47] >= 2 &&
				len(all.Missing) == 0
		})
	}

	// a person who is added on one signs in on the other
	a.account("d.hand", "hand-over-hand", "Crew")
	if took := b.admits("d.hand", "hand-over-hand"); took > 2*time.Second {
		t.Errorf("an account is in use on the other node after %v", took)
	}

	// what is published on one is in effect on the other
	var pass apitype.Pass
	b.do(http.MethodGet, "/passes/crew", nil, &pass)
	var all sync.WaitGroup
	codes := make([]int, 2)
	for i, w := range []*world{a, b} { // both change the same object at once, from the same state
		in := pass.PassFields
		in.VLAN = []string{"41", "42"}[i]
		all.Go(func() { codes[i] = w.status(http.MethodPut, "/passes/"+pass.ID, in, pass.Tag) })
	}
	all.Wait()
	if codes[0]+codes[1] != http.StatusOK+http.StatusPreconditionFailed && codes[0]+codes[1] != http.StatusOK+
		http.StatusConflict {
		t.Errorf("two edits of one object from the same state: %v", codes)
	}
	want := map[bool]string{true: "41", false: "42"}[codes[0] == http.StatusOK]
	for i, w := range []*world{a, b} { // each adds another one: both stay
		all.Go(func() {
			w.do(
				http.MethodPost,
				"/passes",
				map[string]any{"name": []string{"from-a", "from-b"}[i], "vlan": "7"},
				nil,
			)
		})
	}
	all.Wait()
	a.publish()
	begun := time.Now()
	for b.admits("k.nance", "gangway-and-rope"); ; {
		reply, err := b.ask(nil)
		if err == nil && values(reply, "Tunnel-Private-Group-ID") == want {
			break
		}
		if time.Since(begun) > 5*time.Second {
			t.Fatalf("the other node gives %s instead of %s", values(reply, "Tunnel-Private-Group-ID"), want)
		}
	}
	for _, name := range []string{"from-a", "from-b"} {
		b.do(http.MethodGet, "/passes/"+name, nil, &pass)
	}
	// who did what is on both, each with a chain that holds
	for _, w := range []*world{a, b} {
		w.wants(0, []string{"audit", "list"}, "added pass from-a", "added pass from-b", "published revision")
		w.wants(0, []string{"audit", "verify"})
	}
	// a session of a browser is one of both
	var who apitype.About
	b.do(http.MethodGet, "/about", nil, &who)
	if who.Operator != "o.brandt" {
		t.Errorf("the token of one node is not good on the other: %+v", who)
	}

	// what one recorded is found from both, by its list and by itself; who may not look may not look there either
	first, second := a.ask, b.ask
	for _, ask := range []func(func(*trial.Request)) (results.Reply, error){first, second} {
		if _, err := ask(func(q *trial.Request) { q.User = "nobody-at-all" }); err != nil {
			t.Fatal(err)
		}
	}
	var found apitype.Page[apitype.Attempt]
	for end := time.Now().Add(30 * time.Second); len(found.Items) < 2 && time.Now().Before(end); time.Sleep(50 *
		time.Millisecond) {
		a.do(http.MethodGet, "/attempts?user=nobody-at-all", nil, &found)
	}
	by := map[string]bool{}
	for _, one := range found.Items {
		by[one.Node] = true
		for _, w := range []*world{a, b} {
			var detail apitype.AttemptDetail
			w.do(http.MethodGet, "/attempts/"+one.ID, nil, &detail)
			if detail.Sent != "nobody-at-all" {
				t.Errorf("the attempt %s is %+v", one.ID, detail)
			}
		}
	}
	if len(found.Items) != 2 || len(by) != 2 {
		t.Errorf("attempts of both nodes are found as %+v", found)
	}
	a.do(http.MethodGet, "/attempts?user=nobody-at-all&limit=1", nil, &found)
	if len(found.Items) != 1 || found.Next == "" {
		t.Fatalf("the first page is %+v", found)
	}
	newest := found.Items[0].ID
	a.do(http.MethodGet, "/attempts?user=nobody-at-all&limit=1&before="+found.Next, nil, &found)
	if len(found.Items) != 1 || found.Items[0].ID >= newest {
		t.Errorf("the page after %s is %+v", newest, found)
	}
	helper := a.operator("h.ward", "reception")
	status := http.StatusUnauthorized
	for end := time.Now().Add(30 * time.Second); status == http.StatusUnauthorized && time.Now().Before(end); {
		status, _ = b.bare(helper, http.MethodGet, "/attempts") // once the other node knows the token
	}
	if status != http.StatusForbidden {
		t.Errorf("a role that may not look gets %d from the other node", status)
	}

	// wrong passwords on one count on the other
	for range 10 {
		if _, err := a.ask(func(q *trial.Request) { q.User, q.Password = "d.hand", "wrong" }); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(2 * time.Second)
	if _, err := b.ask(func(q *trial.Request) { q.User, q.Password = "d.hand", "wrong" }); err != nil {
		t.Fatal(err)
	}
	braked := false
	for end := time.Now().Add(30 * time.Second); !braked && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		b.do(http.MethodGet, "/attempts?user=d.hand&reason=password.braked", nil, &found)
		braked = slices.ContainsFunc(found.Items, func(one apitype.Attempt) bool { return one.Node == "second" })
	}
	if !braked {
		t.Errorf("wrong passwords on one node brake nothing on the other: %+v", found.Items)
	}

	// one dies: the other answers, knows what it recorded, and is changed
	a.copied(2)
	b.app.Stop()
	a.nodesAre("two", func(n apitype.Nodes) bool { return n.Majority && n.Items[1].State == "silent" })
	a.wants(0, []string{"node", "list"}, "second", "silent")
	a.do(http.MethodGet, "/attempts?user=nobody-at-all", nil, &found)
	if len(found.Items) != 2 || len(found.Missing) != 0 || len(found.Copied) != 1 || found.Copied[0].Node != "second" {
		t.Errorf("without the other node the list is %+v", found)
	}
	a.do(http.MethodPost, "/passes", map[string]any{"name": "while-away", "vlan": "8"}, nil)
	a.publish()
	b.join = "" // it comes back with what it has, and gets what it missed
	b.boot()
	b.api.Token = a.api.Token
	b.well(3)
	b.do(http.MethodGet, "/passes/while-away", nil, &pass)
}

// What an administrator, or somebody else, does wrong with invitations is refused with what to do.
func TestInvitationsThatDoNotCount(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.refused(http.StatusUnprocessableEntity, http.MethodPost, "/nodes", apitype.NodeInput{Name: "no name"}, "name")
	a.refused(http.StatusConflict, http.MethodDelete, "/nodes/other", nil, "only this node")
	a.refused(http.StatusConflict, http.MethodPost, "/nodes/recovery", nil, "only this node")
	token := a.invite("second")
	a.refused(http.StatusNotFound, http.MethodDelete, "/nodes/other", nil, "no such node")
	a.refused(http.StatusConflict, http.MethodPost, "/nodes/recovery", nil, "majority")
	join := func(dir, token string) string {
		out, _ := exec.Command(filepath.Join(binaries, "tollgated"), "-data", dir, "-http", "127.0.0.1:0", "-radius",
			"127.0.0.1:0", "-accounting=", "-radius-tls=", "-radius-dtls=", "-tacacs", "none", "-tacacs-tls", "none",
			"-node-address", "127.0.0.1:0", "-join", token).
			CombinedOutput()
		return string(out)
	}
	for what, one := range map[string][2]string{"whole": {t.TempDir(), token[:len(token)-9]},
		"in use": {a.dir, token}, "this is no invitation": {t.TempDir(), "tkn1_e30"}} {
		if out := join(one[0], one[1]); !strings.Contains(out, what) {
			t.Errorf("%s: %s", what, out)
		}
	}
	b := &world{t: t, dir: t.TempDir(), join: token}
	b.boot()
	if out := join(t.TempDir(), token); !strings.Contains(out, "used already") {
		t.Errorf("an invitation counts twice: %s", out)
	}
	a.refused(http.StatusUnprocessableEntity, http.MethodPost, "/nodes", apitype.NodeInput{Name: "Second"}, "name")
	a.well(2)
	// two at once: one of them
	tokens := []string{a.invite("third"), a.invite("fourth")}
	errs := make([]error, 2)
	var all sync.WaitGroup
	for i := range tokens {
		all.Go(func() { errs[i] = joinAs(t, tokens[i]) })
	}
	all.Wait()
	if errs[0] != nil && errs[1] != nil {
		t.Errorf("of two that join at once none did: %v, %v", errs[0], errs[1])
	}
	// a node that is removed is none any more, whatever it still thinks
	b.api.Token = a.api.Token
	a.do(http.MethodDelete, "/nodes/second", nil, nil)
	b.nodesAre("removed", func(n apitype.Nodes) bool { return n.Removed || !n.Majority })
	if code := b.status(http.MethodPost, "/passes", map[string]any{"name": "late", "vlan": "1"},
		""); code != http.StatusServiceUnavailable {
		t.Errorf("a removed node changes things: %d", code)
	}
	var now apitype.Now
	b.do(http.MethodGet, "/now", nil, &now)
	if len(now.Attention) == 0 {
		t.Error("a removed node does not say so")
	}
}

// joinAs joins by an invitation, and leaves it running until the test ends.
func joinAs(t *testing.T, token string) error {
	a, err := app.Start(
		t.Context(),
		app.Options{Data: t.TempDir(), HTTP: "127.0.0.1:0", RADIUS: []string{"127.0.0.1:0"},
			NodeAddress: "127.0.0.1:0", Join: token, TACACSOptional: true,
			Engine: []string{filepath.Join(binaries, "tollgated"), app.EngineFlag}},
	)
	if err == nil {
		t.Cleanup(a.Stop)
	}
	return err
}

// status is how a call is answered.
func (w *world) status(method, path string, body any, tag string) int {
	w.t.Helper()
	var options []client.Option
	if tag != "" {
		options = append(options, client.IfMatch(tag))
	}
	err := w.api.Do(w.t.Context(), method, path, body, nil, options...)
	var p *apitype.Problem
	switch {
	case errors.As(err, &p):
		return p.Status
	case err != nil:
		w.t.Errorf("%s %s: %v", method, path, err)
		return 0
	}
	return http.StatusOK
}

// A node is killed again and again while both are written to and devices sign in at the other: nothing that was
// acknowledged is missing anywhere in the end, and nobody at the other node waits.
func TestANodeIsKilled(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.basic("require", "127.0.0.1")
	token, dir := a.invite("second"), t.TempDir()
	args := []string{"-data", dir, "-http", free(t), "-radius", "127.0.0.1:0", "-accounting=", "-radius-tls=",
		"-radius-dtls=", "-tacacs", "none", "-tacacs-tls", "none", "-node-address", "127.0.0.1:0"}
	victim := runNode(t, append(args, "-join", token)...)
	b := &world{t: t, dir: dir, api: &client.Client{URL: "http://" + args[3], Token: a.api.Token}}
	a.witness("eye")
	a.well(3)
	a.admits("k.nance", "gangway-and-rope")
	ctx, stop := context.WithCancel(t.Context())
	var writing sync.WaitGroup
	var acknowledged sync.Map
	var written, asked, unanswered atomic.Int64
	for name, w := range map[string]*world{"a": a, "b": b} {
		writing.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				name := fmt.Sprintf("%s-%d", name, n)
				if w.api.Do(context.Background(), http.MethodPost, "/devices", map[string]any{"match": mac(n, name),
					"name": name, "enabled": true}, nil) == nil {
					acknowledged.Store(name, true)
					written.Add(1)
				} else {
					time.Sleep(20 * time.Millisecond)
				}
			}
		})
	}
	writing.Go(func() {
		for ctx.Err() == nil {
			asked.Add(1)
			if reply, err := a.ask(func(q *trial.Request) { q.Timeout = 3 * time.Second }); err != nil ||
				!reply.Accepted {
				unanswered.Add(1)
			}
			time.Sleep(time.Millisecond)
		}
	})
	for range 2 {
		time.Sleep(1500 * time.Millisecond)
		victim.kill()
		before := written.Load()
		time.Sleep(2500 * time.Millisecond)
		if written.Load() == before {
			t.Error("nothing could be changed while one of two nodes was dead")
		}
		victim = runNode(t, args...)
		a.there(3)
	}
	stop()
	writing.Wait()
	a.well(3)
	missing := a.lacks(&acknowledged) + b.lacks(&acknowledged)
	if missing > 0 || unanswered.Load() > 0 {
		t.Errorf(
			"of %d changes are missing %d; of %d sign-ins %d were not answered",
			written.Load(),
			missing,
			asked.Load(),
			unanswered.Load(),
		)
	}
	t.Logf("%d changes acknowledged, %d sign-ins answered", written.Load(), asked.Load())
}

// lacks counts the devices that a node does not have.
func (w *world) lacks(acknowledged *sync.Map) (missing int) {
	w.t.Helper()
	list, err := client.All[apitype.Device](context.Background(), w.api, "/devices", nil)
	if err != nil {
		w.t.Fatal(err)
	}
	have := map[string]bool{}
	for _, d := range list {
		have[d.Name] = true
	}
	acknowledged.Range(func(name, _ any) bool {
		if !have[name.(string)] {
			missing++
		}
		return true
	})
	return missing
}

// mac is an address of its own for each name.
func mac(n int, name string) string {
	return fmt.Sprintf("02-00-5E-%02X-%02X-%02X", name[0], n>>8&255, n&255)
}

// Each node has an audit and a checkup of its own: any node shows those of another, and says where that is not there.
func TestAuditAndCheckupOfEachNode(t *testing.T) {
	t.Parallel()
	a := start(t)
	b := a.second("second")
	a.well(2)
	first := a.nodeName()
	if b.misspells() == nil {
		t.Fatal("a wrong password is let in")
	}
	lines := func(w *world, query string) []apitype.AuditLine {
		var page apitype.Page[apitype.AuditLine]
		w.do(http.MethodGet, "/audit?"+query, nil, &page)
		return page.Items
	}
	var there []apitype.AuditLine
	a.eventually("the refused sign-in is in the audit of that node", func() bool {
		there = lines(a, "result=refused&node=SECOND")
		return len(there) > 0
	})
	if list := lines(b, "result=refused&node="+first); len(list) != 0 {
		t.Errorf("the audit of the first node has %+v", list)
	}
	if list := lines(b, "result=refused&node=second"); len(list) != len(there) {
		t.Errorf("asked for its own, the node has %d lines, not %d", len(list), len(there))
	}
	number := strconv.FormatInt(there[0].Number, 10)
	a.wants(0, []string{"audit", "list", "-result", "refused", "-node", "second"}, number)
	a.wants(0, []string{"audit", "show", number, "-node", "second"}, there[0].What)
	a.wants(0, []string{"audit", "verify", "-node", "second"}, "as they were recorded")
	head := filepath.Join(t.TempDir(), "head.json")
	a.wants(0, []string{"audit", "head", "-node", "second", "-to", head}, "The head")
	b.wants(0, []string{"audit", "verify", "-head", head}, "as they were recorded")
	a.wants(1, []string{"audit", "verify", "-head", head}, "")
	a.wants(0, []string{"audit", "export", "-format", "jsonl", "-node", "second"}, there[0].What)
	followed := make(chan struct{})
	go func() { // something happens there
		for tries := 0; tries < 20; tries++ {
			select {
			case <-followed:
				return
			case <-time.After(500 * time.Millisecond):
				b.misspells()
			}
		}
	}()
	a.wants(0, []string{"audit", "follow", "-count", "1", "-node", "second"}, "o.brandt")
	close(followed)
	a.do(http.MethodPost, "/directories", apitype.DirectoryInput{BindPassword: "x",
		DirectoryFields: apitype.DirectoryFields{Name: "NOWHERE", Kind: "generic", Servers: []string{"127.0.0.1:1"},
			TLS: "plain", BindName: "cn=x", Base: "dc=nowhere,dc=example"}}, nil)
	a.publish()
	b.eventually("the directory is in use there", func() bool {
		return len(b.app.Gate.Current().Plan.Config.Directories) == 1
	})
	a.wants(1, []string{"checkup", "run", "-node", "second"}, "NOWHERE")
	ran := func(w *world, query string) bool {
		var out apitype.Checkup
		w.do(http.MethodGet, "/checkup"+query, nil, &out)
		return out.Ran != nil
	}
	if !ran(a, "?node=second") || !ran(b, "") {
		t.Error("the checkup did not run at the second node")
	}
	a.refused(http.StatusNotFound, http.MethodGet, "/audit?node=third", nil, "no other node third")
	alone := start(t)
	alone.refused(http.StatusNotFound, http.MethodGet, "/checkup?node=third", nil, "no other node third")
	if status, _ := a.bare("", http.MethodGet, "/audit?node=second"); status != http.StatusUnauthorized {
		t.Errorf("a stranger gets %d", status)
	}
	helper := a.operator("h.ward", "reception")
	b.eventually("the role is known there, and refused", func() bool {
		status, _ := a.bare(helper, http.MethodGet, "/audit?node=second")
		return status == http.StatusForbidden
	})
	b.app.Stop()
	a.refused(http.StatusServiceUnavailable, http.MethodGet, "/audit?node=second", nil, "second does not answer")
}

// misspells has an operator give a wrong password at this node, which its audit notes.
func (w *world) misspells() error {
	return w.api.Do(w.t.Context(), http.MethodPost, "/sign-in", apitype.SignInInput{Name: "o.brandt",
		Password: "no-such-word", TokenName: "x"}, nil)
}
