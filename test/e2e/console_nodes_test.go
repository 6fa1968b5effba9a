package e2e

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// A node is invited in the console, joins, and is seen; one that dies is seen too, and what it recorded is listed
// from a copy; a witness is removed.
func TestConsoleOfNodes(t *testing.T) {
	a := start(t)
	a.basic("require", "127.0.0.1")
	p := pageSteps{signedIn(t, a)}
	steps(
		t,
		p.click("Nodes"),
		p.see("This is the only node"),
		p.click("Invite a node"),
		p.fill(
			"Name of the new node",
			"not a name",
		),
		p.click("Make an invitation"),
		p.see("letters, digits and hyphens"),
		p.fill(
			"Name of the new node",
			"south-pier",
		),
		p.click("Make an invitation"),
		p.see("tollgated -data DIR -join"),
		p.press("\x1b"),
		p.see("Close without keeping"),
		p.click("Stay here"),
	)
	command, err := browser.Eval[string](p.Page, `document.querySelector("[data-invitation]").innerText`)
	if err != nil {
		t.Fatal(err)
	}
	_, token, _ := strings.Cut(command, "-join ")
	b := &world{t: t, dir: t.TempDir(), join: strings.TrimSpace(token)}
	b.boot()
	b.api.Token = a.api.Token
	a.witness("eye")
	a.well(3)
	steps(
		t,
		p.press("\x1b"),
		p.click("Close it"),
		p.see("3 of 3 reachable"),
		p.see("Records copied to"),
		p.see("1 more may die"),
		p.see("witness"),
	)
	b.admits("k.nance", "gangway-and-rope")
	steps(t, p.see("np-switch-1"), p.see("only ever asked south-pier"), p.click("Attempts"), p.see("k.nance"),
		p.click("Nodes"))
	b.app.Stop()
	steps(
		t,
		p.see("south-pier does not answer"),
		p.see("2 of 3 reachable"),
		p.click("Attempts"),
		p.see(
			"south-pier does not answer. What it recorded until",
		),
		p.click("Now"),
		p.see("The node south-pier does not answer"),
		p.click("Nodes"),
		p.choose("One-time codes while no majority is reached",
			"are taken; one that was used twice is an alarm afterwards"),
	)
	var nodes apitype.Nodes
	for end := time.Now().Add(30 * time.Second); nodes.CodesWhenCutOff != "take" && time.Now().Before(end); {
		a.do(http.MethodGet, "/nodes", nil, &nodes)
		time.Sleep(50 * time.Millisecond)
	}
	if nodes.CodesWhenCutOff != "take" {
		t.Errorf("the settings are %+v", nodes.NodeSettings)
	}
	steps(t, p.click("Remove south-pier"), p.see("gets no change from then on"), p.click("Remove it"),
		p.see("2 of 2 reachable"), p.unsee("south-pier does not answer"))
}
