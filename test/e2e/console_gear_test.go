package e2e

import (
	"net/http"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"tollgate.example/key/internal/apitype"
	"tollgate.example/key/internal/peer"
	"tollgate.example/key/test/e2e/browser"
)

// An administrator writes a command list, types commands into it, gives it to a pass, and reads what was typed on the device.
func TestCommandListsAndJournalInTheConsole(t *testing.T) {
	w := start(t)
	w.gear()
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/command-lists"), p.see("everything"), p.click("Add command list"), p.see("Type commands"), p.fill("Name", "ports"),
		p.fill("Command of line 1", "interface gi*"), p.click("Add line"), p.fill("Command of line 2", "interface gi0/1"), p.choose("Then the lines of", "looking"), p.see("Line 2 (interface gi0/1) never decides"),
		p.fill("Commands", "interface gi0/2\nshow secrets\nreload"), p.see("line 1 of looking: show secrets *"), p.see("line 1: interface gi*"), p.see("no line fits"),
		p.fill("Command of line 2", "show a|"), p.see("Column 7: an alternative is empty"), p.fill("Command of line 2", "interface gi0/1"), p.see("never decides"), p.focus("Move line 2"), p.press(" "))
	settle(t, p.Page)
	steps(t, p.press(kb.ArrowUp))
	settle(t, p.Page)
	steps(t, p.press(" "), p.unsee("never decides"), p.click("Save to the draft"), p.see("1 change"))
	var l apitype.CommandList
	w.do(http.MethodGet, "/command-lists/ports", nil, &l)
	if len(l.Lines) != 2 || l.Lines[0].Pattern != "interface gi0/1" || len(l.Extends) != 1 {
		t.Errorf("saved %+v", l)
	}
	steps(t, p.open(w.app.URL+"/passes"), p.click("looker"), p.see("What network gear gets over TACACS+"), p.see("priv-lvl"), p.choose("Command list", "ports"), p.click("Save to the draft"), p.see("2 changes"))
	w.publish()
	g := w.device(true)
	w.asks(g, peer.GearAsk{Ask: "command", User: "lou", Command: "interface gi0/3"}, "PASS_ADD")
	steps(t, p.open(w.app.URL+"/journal"), p.see("interface gi0/3"))
	w.asks(g, peer.GearAsk{Ask: "command", User: "lou", Command: "show secrets", Remote: "192.0.2.66"}, "FAIL")
	w.asks(g, peer.GearAsk{Ask: "start", User: "ann", Args: []string{"task_id=31"}}, "SUCCESS")
	steps(t, p.see("show secrets"), p.see("looking, line 1: refuse show secrets *"), p.see("reported start"), p.see("192.0.2.66"), p.fill("User", "ann"), p.press("\r"), p.unsee("show secrets"), p.see("reported start"))
	w.attempts("reason=command.refused", 1)
	steps(t, p.open(w.app.URL+"/journal?kind=command&verdict=refused"), p.see("show secrets"))
	if _, err := browser.Eval[bool](p.Page, "(document.querySelector('tbody tr[tabindex]').click(), true)"); err != nil {
		t.Fatal(err)
	}
	steps(t, p.see("Everything of lou"), p.click("Its road"), p.see("Command list ports refuses show secrets"),
		p.open(w.app.URL+"/try?protocol=tacacs"), p.fill("Name", "ann"), p.fill("Password", "rope-and-anchor"), p.click("Ask"), p.see("GETPASS"), p.see("PASS"),
		p.open(w.app.URL+"/clients"), p.see("TACACS+"), p.click("hh-router-1"), p.see("Names in its certificate"), p.fill("Note", "in the rack"), p.click("Save and publish"), p.see("Published as revision"))
	w.asks(w.device(false), peer.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD") // the form leaves the secret alone
}
