package e2e

import (
	"strings"
	"testing"

	"tollgate.example/key/test/e2e/browser"
)

// Who is where, why, and since when; a source whose form of line is tried in place; a firewall with its token.
func TestConsolePresence(t *testing.T) {
	w := lantern(t)
	w.accounted("Start", "s-1", "s.lodge", "192.0.2.41", "02-00-5e-00-00-01")
	p := pageSteps{signedIn(t, w)}
	steps(t, p.click("Presence"), p.see("Sunniva Lodge"), p.see("192.0.2.41"), p.see("1 at addresses"),
		p.click("Report by hand"), p.see("Report who is where"), p.fill("Person", "t.marchetti"),
		p.fill("Address", "nowhere"), p.click("Report"), p.see("is no IP address"), p.fill("Address", "192.0.2.41"),
		p.fill("Why", "seen at the counter"), p.click("Report"), p.unsee("Report who is where"),
		p.see("reported by o.brandt seen at the counter"),
		p.open(w.app.URL+"/presence"), p.see("Tobia Marchetti"), p.click("192.0.2.41"),
		p.see("Tobia Marchetti is at 192.0.2.41"), p.see("lost to t.marchetti: operators is trusted more"),
		p.open(w.app.URL+"/presence/people/s.lodge"), p.see("nowhere now"), p.see("bench-1, start"),
		p.see("is also claimed for"))
	steps(
		t,
		p.click("Sources"),
		p.see("our own sessions"),
		p.see("Conflicts now"),
		p.click("Add source"),
		p.fill("Name", "gateway"),
		p.fill("From", "192.0.2.9"),
		p.click("Add form"),
		p.fill("Form 1", "opened for {who} from {address}"),
		p.fill("Lines to try them on",
			"sshd: session opened for k.oake from 192.0.2.50 port 7"),
		p.click("Try"),
		p.see("who k.oake"),
		p.fill("Form 1", "{who} {address}"),
		p.click("Save to the draft"),
		p.see("nearly every line"),
		p.fill(
			"Form 1",
			"opened for {who} from {address}",
		),
		p.click("Save to the draft"),
		p.see("Saved in the draft"),
	)
	steps(
		t,
		p.click("Subscribers"),
		p.see("Nobody is told"),
		p.click("Add subscriber"),
		p.fill("Name", "hh-firewall-1"),
		p.click("Save to the draft"),
		p.see("A new token, shown only here"),
		p.see("Saved in the draft"),
	)
	token, err := browser.Eval[string](p.Page, `document.querySelector("[role=status] .mono").innerText.trim()`)
	if err != nil || len(token) < 20 {
		t.Fatalf("the token is %q, %v", token, err)
	}
	w.wants(0, []string{"draft", "publish", "-note", "a firewall"})
	if r, text := w.get("/presence/v1/snapshot", token, ""); !strings.Contains(text, "t.marchetti") {
		t.Errorf("with the token that was shown: %s %s", r.Status, text)
	}
	steps(t, p.click("Subscribers"), p.see("live"))
	if list := p.Errors(); len(list) > 0 {
		t.Error(list)
	}
}
