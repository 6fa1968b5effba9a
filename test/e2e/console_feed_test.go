package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// A feed and a remote server of two machines are set up in the console, tried, and watched.
func TestConsoleFeedsAndRemotes(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	p := pageSteps{signedIn(t, w)}
	url := w.app.URL
	steps(
		t,
		p.open(url+"/feeds"),
		p.see("Nothing is sent on"),
		p.click("Add feed"),
		p.see("What is sent"),
		p.fill("Name", "Security desk"),
		p.choose("To", "file of JSON lines"),
		p.choose("Verdict", "refused"),
		p.fill("File", "Not allowed"),
		p.click("Save to the draft"),
		p.see(
			"is not a name of a file",
		),
		p.fill("File", "desk"),
		p.click("Save and publish"),
		p.see("What is published"),
		p.click("Publish"),
		p.see("nothing unpublished"),
		p.click("Send a test event"),
		p.see("it was sent"),
	)
	w.ask(func(q *trial.Request) { q.Password = "wrong" })
	steps(t, p.see("up to date"), p.open(url+"/feeds"), p.see("1 sent"), p.see("desk.jsonl"))
	text, err := os.ReadFile(filepath.Join(w.dir, "feeds", "desk.jsonl"))
	if err != nil || !strings.Contains(string(text), `"kind":"test"`) || !strings.Contains(string(text),
		`"verdict":"refused"`) {
		t.Errorf("%s, %v", text, err)
	}
	far := start(t)
	far.basic("require", "127.0.0.1")
	steps(t, p.open(url+"/remotes/new"), p.see("Shared secret"), p.fill("Name", "harbour"),
		p.fill("Servers", far.radius+"\n127.0.0.1:9 *3"), p.fill("Shared secret", secret),
		p.click("Add rule"), p.fill("Attribute", "User-Password"), p.fill("Value", "x"), p.click("Save to the draft"),
		p.see("belongs to the proof of the request"), p.fill("Attribute", "NAS-Identifier"), p.fill("Value", "pier"),
		p.click("Save to the draft"), p.see("no lane forwards to it yet"))
	var r apitype.Remote
	w.do(http.MethodGet, "/remotes/harbour", nil, &r)
	if len(r.Servers) != 2 || r.Servers[1].Weight != 3 || len(r.Rules) != 1 || r.Rules[0].Value != "pier" {
		t.Fatalf("%+v", r.RemoteFields)
	}
	w.wants(0, []string{"lane", "change", "Wired", "-forward", "harbour"}, "changed")
	w.publish()
	w.ask(nil)
	steps(
		t,
		p.open(url+"/remotes"),
		p.see("answers"),
		p.click("harbour"),
		p.see("Last answer"),
		p.see("not asked yet"),
	)
	if f := far.newest(1).Facts; f.NAS != "pier" {
		t.Errorf("there: %+v", f)
	}
}
