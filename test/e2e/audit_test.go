package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// audit lists lines of the audit, the newest first.
func (w *world) audit(query string) []apitype.AuditLine {
	w.t.Helper()
	var page apitype.Page[apitype.AuditLine]
	w.do(http.MethodGet, "/audit?limit=500&"+query, nil, &page)
	return page.Items
}

// audits fails unless the newest line that fits is about something, in words.
func (w *world) audits(query string, parts ...string) apitype.AuditLine {
	w.t.Helper()
	list := w.audit(query)
	if len(list) == 0 {
		w.t.Errorf("nothing is recorded with %s", query)
		return apitype.AuditLine{}
	}
	var line apitype.AuditLine
	w.do(http.MethodGet, fmt.Sprintf("/audit/%d", list[0].Number), nil, &line)
	text := fmt.Sprintf(
		"%s; %s %s from %s by %s; %s; %v %s %s",
		line.What,
		line.Who,
		line.Role,
		line.From,
		line.How,
		line.Why,
		line.Changes,
		line.Before,
		line.After,
	)
	for _, part := range parts {
		if !strings.Contains(text, part) {
			w.t.Errorf("with %s is recorded %s, without %q", query, text, part)
		}
	}
	return line
}

// Each change is recorded with who, from where, how, before and after; secrets are nowhere.
func TestAuditSaysWhoDidWhat(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(
		0,
		[]string{"client", "change", "np-switch-1", "-tag", "floor=9", "-publish", "-note", "moved a floor up"},
	)
	line := w.audits(
		"kind=client&name=np-switch-1",
		"changed client np-switch-1 in the draft",
		"o.brandt owner",
		"127.0.0.1",
		"command, token test",
		`"floor":"9"`,
		"(secret)",
	)
	if strings.Contains(string(line.Before), "floor") {
		t.Errorf("before: %s", line.Before)
	}
	w.audits("kind=revision", "published revision 2: moved a floor up", "client np-switch-1")
	w.do(
		http.MethodPost,
		"/accounts",
		apitype.AccountInput{AccountFields: apitype.AccountFields{Name: "s.lodge",
			Groups: []string{"Deck"}, Enabled: true}, Password: "harbour-and-rope"},
		nil,
	)
	w.audits("kind=account&name=s.*", "added account s.lodge", "token test", `"Deck"`, "{password  set}")
	w.wants(0, []string{"account", "change", "s.lodge", "-off"})
	w.audits("kind=account", "changed account s.lodge", "{enabled true }")
	w.wants(0, []string{"account", "remove", "s.lodge"})
	w.audits("kind=account", "removed account s.lodge")
	w.do(http.MethodPost, "/factors", apitype.FactorInput{Person: "k.nance"}, nil)
	w.audits("kind=factor", "began to enrol a second factor of k.nance")
	w.audits("q=new+token", "with a new token test")

	token := w.operator("h.ward", "helpdesk")
	w.audits("kind=operator", "added operator h.ward as helpdesk")
	w.as(token).
		refused(http.StatusForbidden, http.MethodPost, "/draft/publish", apitype.PublishBody{}, "helpdesk")
	w.audits("result=refused", "published the draft", "h.ward helpdesk", "does not allow this")
	w.refused(http.StatusUnauthorized, http.MethodPost, "/sign-in", apitype.SignInInput{Name: "h.ward",
		Password: "harbour-and-gangway"}, "wrong")
	w.audits("result=refused", "signed in", "h.ward", "the name or password is wrong")
	w.do(http.MethodPut, "/operators/h.ward", apitype.RoleInput{Role: "auditor"}, nil)
	w.audits("kind=operator", "made operator h.ward auditor, who was helpdesk", "{role helpdesk auditor}")
	w.wants(0, []string{"config", "export"})
	w.audits("q=exported", "exported the configuration")
	w.do(http.MethodDelete, "/operators/h.ward", nil, nil)
	w.audits("kind=operator", "removed operator h.ward")
	// what changes nothing, and what is refused as wrong, leaves no line
	n := len(w.audit(""))
	w.do(
		http.MethodPost,
		"/account-import",
		apitype.Sheet{CSV: "name;person;groups;enabled;hash;password\n", Check: true},
		nil,
	)
	w.refused(http.StatusUnprocessableEntity, http.MethodPost, "/accounts", apitype.AccountInput{}, "")
	w.do(http.MethodGet, "/clients", nil, nil)
	if got := len(w.audit("")); got != n {
		t.Errorf("%d more lines: %+v", got-n, w.audit("")[0])
	}

	file := filepath.Join(w.dir, "..", "audit.jsonl")
	w.wants(0, []string{"audit", "head", "-to", file + ".head"}, "Keep it where")
	w.wants(0, []string{"audit", "export", "-format", "jsonl", "-to", file})
	w.wants(0, []string{"audit", "verify", "-head", file + ".head"}, "intact", "is among them")
	w.wants(0, []string{"audit", "verify", file, "-head", file + ".head"}, "intact", "is among them")
	w.wants(0, []string{"audit", "list", "-kind", "account"}, "removed account s.lodge", "o.brandt")
	w.wants(0, []string{"audit", "list", "-result", "refused", "signed"}, "refused: signed in")
	w.wants(
		0,
		[]string{"audit", "show", fmt.Sprint(line.Number)},
		"client np-switch-1",
		"o.brandt, owner",
		"hash",
	)
	w.wants(1, []string{"audit", "show", "99999"}, "there is no such line")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []string{secret, "gangway-and-rope", "harbour-and-rope", "lantern-demo-2026",
		"sealed2", w.api.Token} {
		if strings.Contains(string(text), s) {
			t.Errorf("the audit holds %q", s)
		}
	}
	bent := strings.Replace(string(text), "removed account", "changed account", 1)
	if err := os.WriteFile(file, []byte(bent), 0o600); err != nil {
		t.Fatal(err)
	}
	w.wants(1, []string{"audit", "verify", file}, "broken", "one of the two was changed")
}

// Whoever may write the file of the database bends the audit while the service is stopped: it is seen.
func TestBentAuditIsSeen(t *testing.T) {
	t.Parallel()
	w := start(t)
	for i := range 12 {
		w.account(fmt.Sprintf("p.%d", i), "gangway-and-rope")
	}
	head := filepath.Join(w.dir, "..", "noted.head")
	w.wants(0, []string{"audit", "head", "-to", head})
	w.account("p.last", "gangway-and-rope")
	w.wants(0, []string{"audit", "verify", "-head", head}, "intact")
	w.app.Stop()
	path := filepath.Join(w.dir, "tollgate.db")
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	edit := func(text string) string {
		return "UPDATE audit SET line = replace(line, 'p.5', 'p.x') WHERE line LIKE '%p.5%'; " + text
	}
	for what, c := range map[string]struct{ do, want string }{
		"changed": {edit(""), "does not follow from the line before it"},
		"removed": {"DELETE FROM audit WHERE number = 6", "line 6 is missing"},
		"moved": {"UPDATE audit SET number = -1 WHERE number = 6; UPDATE audit SET number = 6 WHERE number = 7; " +
			"UPDATE audit SET number = 7 WHERE number = -1", "line 6 does not say that this is its number"},
		"put in": {"INSERT INTO audit (number, line, hash) SELECT 40, line, hash FROM audit WHERE number = 6",
			"are missing"},
		"cut":      {"DELETE FROM audit WHERE number > 8", "the head that was noted is line"},
		"no hash":  {"UPDATE audit SET hash = x'00' WHERE number = 6", "line 6 does not follow"},
		"beheaded": {"DELETE FROM audit WHERE number < 4", "no line says that they were removed"},
		"emptied":  {"DELETE FROM audit", "the head that was noted is line"},
	} {
		for _, log := range []string{"-wal", "-shm"} {
			os.Remove(path + log)
		}
		db, err := sql.Open("sqlite", path)
		if err == nil {
			err = os.WriteFile(path, whole, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec(c.do); err != nil {
			t.Fatal(what, err)
		}
		db.Close()
		w.boot()
		out := w.wants(1, []string{"audit", "verify", "-head", head}, "broken", c.want)
		if strings.Contains(out, "intact") {
			t.Errorf("%s: %s", what, out)
		}
		w.run("", "tollgate", "audit", "show", "6") // whatever is in the file, nothing falls over
		w.run("", "tollgate", "audit", "export", "-format", "jsonl")
		if list := w.app.Gate.Panics.List(); len(list) != 0 {
			t.Errorf("%s: %+v", what, list)
		}
		w.account("p.after-"+strings.ReplaceAll(what, " ", "-"), "gangway-and-rope") // and changes go on
		w.app.Stop()
	}
	if err := os.WriteFile(path, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	w.boot()
	w.wants(0, []string{"audit", "verify", "-head", head}, "intact")
}

// Ten thousand sign-ins with as many names: refused, recorded without filling the disk, and nobody is locked out.
func TestManyNamesLockNobodyOut(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.operator("h.ward", "helpdesk")
	names := make(chan int)
	done := make(chan int)
	for range 4 {
		go func() {
			n := 0
			for i := range names {
				status, _ := w.bareBody(
					"",
					http.MethodPost,
					"/sign-in",
					fmt.Sprintf(`{"name":"h.ward%d","password":"%d-wrong-one"}`,
						i, i),
				)
				if status == http.StatusTooManyRequests || status == http.StatusUnauthorized {
					n++
				}
			}
			done <- n
		}()
	}
	for i := range 10_000 {
		names <- i
	}
	close(names)
	if n := <-done + <-done + <-done + <-done; n != 10_000 {
		t.Errorf("%d of 10000 were refused", n)
	}
	if n := len(w.audit("result=refused")); n == 0 || n > 250 {
		t.Errorf("%d lines about it", n)
	}
	// the named operator gets in from elsewhere, and from here after a little
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	for {
		status, _ := w.bareBody(
			"",
			http.MethodPost,
			"/sign-in",
			`{"name":"h.ward","password":"lantern-demo-2026"}`,
		)
		if status == http.StatusOK {
			break
		}
		if ctx.Err() != nil {
			t.Fatalf("h.ward does not get in any more: %d", status)
		}
		time.Sleep(500 * time.Millisecond)
	}
	w.audits("who=h.ward&result=done", "signed in")
}

// A sign-in that is tried, and a packet to a client, are recorded before they are sent.
func TestAuditOfPackets(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start", "NAS-IP-Address=192.0.2.11")
	id := w.openSessions("").Items[0].ID
	w.askSession(id, apitype.SessionAsk{Action: "disconnect"})
	w.audits("kind=session", "asked np-switch-1 to disconnect the session of k.nance")
	if _, err := w.ask(func(r *trial.Request) {}); err != nil {
		t.Fatal(err)
	}
	if list := w.audit("q=Access"); len(list) != 0 {
		t.Errorf("what devices do is no matter of the audit: %+v", list[0])
	}
}

// However often the service is killed, whatever was acknowledged stands in the audit, and nothing else does.
func TestAuditOfAServiceThatIsKilled(t *testing.T) {
	t.Parallel()
	p := &process{world: &world{t: t, dir: t.TempDir()}}
	p.run("")
	defer func() { p.end(syscall.SIGKILL) }()
	acknowledged := map[string]bool{}
	for round := range 6 {
		// the process of this round: a timer that is late must not kill the next one
		running := p.cmd.Process
		stop := time.AfterFunc(300*time.Millisecond, func() { running.Kill() })
		for i := 0; ; i++ {
			mac := fmt.Sprintf("02-00-5E-%02X-%02X-%02X", round, i>>8, i&0xff)
			if p.api.Do(
				t.Context(),
				http.MethodPost,
				"/devices",
				apitype.DeviceFields{Match: mac, Enabled: true},
				nil,
			) != nil {
				break
			}
			acknowledged[mac] = true
		}
		stop.Stop()
		p.end(syscall.SIGKILL)
		p.run("")
	}
	kept := map[string]bool{}
	for _, l := range p.everyLine("kind=device") {
		kept[l.Name] = true
	}
	devices, err := client.All[apitype.Device](t.Context(), p.api, "/devices", nil)
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, d := range devices {
		there[d.Match] = true
		if !kept[d.Match] {
			t.Errorf("%s is there, and no line says so", d.Match)
		}
	}
	for mac := range kept {
		if !there[mac] {
			t.Errorf("a line says that %s was added, and it is not there", mac)
		}
	}
	for mac := range acknowledged {
		if !kept[mac] {
			t.Errorf("%s was acknowledged, and no line says so", mac)
		}
	}
	var v apitype.AuditVerification
	if p.do(http.MethodPost, "/audit-verify", apitype.AuditNoted{}, &v); !v.Intact || len(acknowledged) < 20 {
		t.Errorf("%d acknowledged; %+v", len(acknowledged), v)
	}
}

// everyLine lists all lines that fit.
func (w *world) everyLine(query string) (out []apitype.AuditLine) {
	w.t.Helper()
	for before := ""; ; {
		var page apitype.Page[apitype.AuditLine]
		w.do(http.MethodGet, "/audit?limit=500&"+query+before, nil, &page)
		if out = append(out, page.Items...); page.Next == "" {
			return out
		}
		before = "&before=" + page.Next
	}
}
