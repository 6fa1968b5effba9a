package e2e

import (
	"net/http"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// An administrator writes a command list, types commands into it, gives it to a pass, and reads what was typed on the
// device.
func TestCommandListsAndJournalInTheConsole(t *testing.T) {
	w := start(t)
	w.gear()
	p := pageSteps{signedIn(t, w)}
	steps(
		t,
		p.open(w.app.URL+"/command-lists"),
		p.see("everything"),
		p.click("Add command list"),
		p.see("Type commands"),
		p.fill("Name", "ports"),
		p.fill("Command of line 1", "interface gi*"),
		p.click("Add line"),
		p.fill("Command of line 2",
			"interface gi0/1"),
		p.choose("Followed by the lines of", "looking"),
		p.see("Line 2 (interface gi0/1) never decides"),
		p.fill("Commands", "interface gi0/2\nshow secrets\nreload"),
		p.see("line 1 of looking: show secrets *"),
		p.see("line 1: interface gi*"),
		p.see("no line fits"),
		p.fill(
			"Command of line 2",
			"show a|",
		),
		p.see("Column 7: an alternative is empty"),
		p.fill("Command of line 2",
			"interface gi0/1"),
		p.see("never decides"),
		p.focus("Move line 2"),
		p.press(" "),
	)
	settle(t, p.Page)
	steps(t, p.press(kb.ArrowUp))
	settle(t, p.Page)
	steps(t, p.press(" "), p.unsee("never decides"), p.click("Save to the draft"), p.see("1 change"))
	var l apitype.CommandList
	w.do(http.MethodGet, "/command-lists/ports", nil, &l)
	if len(l.Lines) != 2 || l.Lines[0].Pattern != "interface gi0/1" || len(l.Extends) != 1 {
		t.Errorf("saved %+v", l)
	}
	steps(t, p.open(w.app.URL+"/passes"), p.click("looker"), p.see("What network gear gets over TACACS+"),
		p.see("priv-lvl"), p.choose("Command list", "ports"), p.click("Save to the draft"), p.see("2 changes"))
	w.publish()
	g := w.device(true)
	w.asks(g, trial.GearAsk{Ask: "command", User: "lou", Command: "interface gi0/3"}, "PASS_ADD")
	steps(t, p.open(w.app.URL+"/journal"), p.see("interface gi0/3"))
	w.asks(g, trial.GearAsk{Ask: "command", User: "lou", Command: "show secrets", Remote: "192.0.2.66"}, "FAIL")
	w.asks(g, trial.GearAsk{Ask: "start", User: "ann", Args: []string{"service=shell", "task_id=31"}}, "SUCCESS")
	steps(t, p.see("show secrets"), p.see("looking, line 1: refuse show secrets *"), p.see("shell start"),
		p.see("192.0.2.66"), p.fill("User", "ann"), p.press("\r"), p.unsee("show secrets"), p.see("shell start"))
	w.attempts("reason=command.refused", 1)
	steps(t, p.open(w.app.URL+"/journal?kind=command&verdict=refused"), p.see("show secrets"))
	if _, err := browser.Eval[bool](p.Page,
		"(document.querySelector('tbody tr[tabindex]').click(), true)"); err != nil {
		t.Fatal(err)
	}
	steps(t, p.see("Everything of lou"), p.click("Its road"), p.see("Command list ports refuses show secrets"),
		p.see("asked for show secrets on hh-router-1"), p.see("signed in by"),
		p.open(w.app.URL+"/try?protocol=tacacs"), p.fill("Name", "ann"), p.fill("Password", "rope-and-anchor"),
		p.click("Ask"), p.see("GETPASS"), p.see("PASS"),
		p.open(w.app.URL+"/clients"), p.see("TACACS+"), p.click("hh-router-1"), p.see("TACACS+ secret"),
		p.fill("Note", "in the rack"), p.click("Save and publish"), p.see("What is published"), p.click("Publish"),
		p.see("Saved, and in effect"))
	w.asks(w.device(false), trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD") // the form leaves the secret alone
}

// A device is enrolled from the refusal that asks for it, and the lane that asks for codes is set up.
func TestSecondFactorsInTheConsole(t *testing.T) {
	w := lantern(t)
	g := &trial.Gear{Server: w.tacacs, Secret: "mooring-cr-5Wk8", From: must("127.0.10.44"), Timeout: 5 * time.Second}
	defer g.Close()
	w.asks(g, trial.GearAsk{Ask: "login", User: "i.solvang", Password: "harbour-i.solvang", Code: "123456"}, "FAIL")
	refused := w.attempts("reason=factor.not-enrolled", 1)[0]
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/attempts/"+refused.ID), p.see("Ingrid Solvang has no second factor"),
		p.click("Enrol Ingrid Solvang"), p.see("wherever the person is found"), p.fill("Device", "phone of Ingrid"),
		p.click("Show QR code"),
		p.see("take this picture"), p.fill("Code shown now", "000000"), p.click("Confirm"),
		p.see("not the code that the device should show"))
	seed, err := browser.Eval[string](p.Page,
		"document.querySelector('[role=dialog] [data-secret]').innerText.replaceAll(' ', '')")
	if err != nil {
		t.Fatal(err)
	}
	ingrid := &authenticator{t: t, seed: seed, at: time.Now().Add(-time.Minute)}
	steps(t, p.fill("Code shown now", ingrid.next()), p.click("Confirm"), p.see("It is active from now on"))
	if n, err := browser.Eval[int](p.Page,
		"document.querySelectorAll('[role=dialog] [data-secret] li').length"); err != nil || n != 8 {
		t.Errorf("%d recovery codes are shown, %v", n, err)
	}
	steps(t, p.click("Done"), p.see("phone of Ingrid"))
	w.asks(g, trial.GearAsk{Ask: "login", User: "i.solvang", Password: "harbour-i.solvang", Code: ingrid.next()},
		"PASS")
	steps(
		t,
		p.click("i.solvang"),
		p.see("on hh-core-1"),
		p.click("New recovery codes"),
		p.see("shown only here"),
		p.click("Remove"),
		p.see("are refused until one is enrolled"),
		p.click("Remove"),
		p.unsee("phone of Ingrid"),
		p.see("phone of Nerys"),
		p.click(
			"People",
		),
		p.fill("Name of the person", "n.pryce"),
		p.click("Find"),
		p.see("enrolled, phone of Nerys"),
		p.open(w.app.URL+"/lanes"),
		p.click("2. Device logins"),
		p.see("Port operations"),
		p.click("Edit lane"),
		p.see("none is asked for"),
		p.choose("Second factor", "a one-time code"),
		p.fill("Do not ask for a code again within (minutes)", "2000"),
		p.click("Save to the draft"),
		p.see("out of range"),
		p.fill("Do not ask for a code again within (minutes)", "15"),
		p.click("Save to the draft"),
		p.see("not again within 15 min"),
		p.see("1 change"),
	)
}
