package e2e

import (
	"strings"
	"testing"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/test/e2e/browser"
)

// A policy is built with the keyboard alone, lands behind one that takes everybody it is for, is moved where it can be
// reached, rehearsed, published and taken back.
func TestAPolicyFromTheFirstKeyToTakingItBack(t *testing.T) {
	w := lantern(t)
	sign := func() {
		t.Helper()
		var reply results.Reply
		for range 5 { // a stall of the machine may cost the stand-in directory its answer
			var err error
			if reply, err = w.ask(func(q *trial.Request) {
				q.User, q.Password, q.Secret, q.From = "t.marchetti", "harbour-t.marchetti", "gangway-and-bollard-99",
					must("127.0.10.99")
			}); err == nil && reply.Accepted {
				return
			}
		}
		t.Fatalf("t.marchetti is not admitted: %+v", reply)
	}
	sign()
	w.attempts("verdict=admitted", 1)
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/lanes"), p.click("8. Wired ports"), p.see("By department"), p.focus("Add policy"),
		p.press("\r"), p.see("Applies to people where"), p.press("Night crew"),
		p.focus("As a form"), p.press("\r"), p.see("Matches everyone: no comparison yet"), p.press("\t"),
		p.press("\r"), p.see("A field was expected"),
		p.focus("Field"), p.press("grup"), p.focus("Value"), p.press("Deck Officers"), p.see("Did you mean group?"))
	if _, err := browser.Eval[bool](p.Page, "(document.activeElement.blur(), true)"); err != nil {
		t.Fatal(err)
	}
	steps(
		t,
		p.fill("Field", ""),
		p.focus("Field"),
		p.press("group"),
		p.see(`group is "Deck Officers"`),
		p.focus(
			"Pass",
		),
		p.pick("ticketing"),
		p.focus("Save to the draft"),
		p.press("\r"),
		p.unsee("Applies to people where"),
		p.see("Can never be reached: policy 2, Deck officers, matches everything that this could match"),
		p.see("Move it up"),
		p.click("Analysis"),
		p.see("1 mistake"),
		p.see("never reached"),
		p.see("group Deck Officers"),
		p.click("Policies"),
		p.click("8. Wired ports"),
		p.see("Night crew"),
		p.focus("Move policy Night crew"),
		p.press(" "),
	)
	settle(t, p.Page)
	for range 5 {
		steps(t, p.press("\u0304")) // arrow up
		settle(t, p.Page)
	}
	steps(t, p.press(" "), p.unsee("Can never be reached"), p.see("overlaps"))
	if out := w.wants(0, []string{"policy", "list", "Wired ports"}); strings.Index(out,
		"Night crew") > strings.Index(out, "Deck officers") {
		t.Errorf("it was not moved:\n%s", out)
	}
	steps(t, p.click("Rehearse"), p.see("Attempts of"), p.click("Rehearse"),
		p.see("1 attempts would have a different result"),
		p.see("VLAN 20"), p.click("Tobia Marchetti"), p.see("The whole attempt"),
		p.click("Publish"), p.see("Publish as revision 4"), p.fill("Note", "the night crew"), p.press("\r"),
		p.see("Running revision 4"))
	sign()
	if a := w.attempts("verdict=admitted", 2)[0]; a.Policy != "Night crew" || a.VLAN != "20" {
		t.Errorf("after publishing: %+v", a)
	}
	steps(t, p.click("Policies"), p.click("8. Wired ports"), p.see("Night crew"), p.see("1, "),
		p.click("History"), p.see("the night crew"), p.choose("Revision from", "3"), p.choose("Revision to", "4"),
		p.see(`policy "Night crew" added`), p.see("Return to it"))
	if _, err := browser.Eval[bool](p.Page,
		`([...document.querySelectorAll("main div")].filter((d) => d.innerText.includes("Revision 3") && !d.innerText.includes("Revision 2") && d.querySelector("button:last-of-type")).at(-1).querySelector("span button").click(), true)`); err != nil {
		t.Fatal(err)
	}
	steps(t, p.see("Return to revision 3"), p.fill("Note", "the night is over"), p.click("Return to this revision"),
		p.see("Running revision 5"))
	w.wants(0, []string{"directory", "forget", "LANTERN"}, "dropped")
	sign()
	if a := w.attempts("verdict=admitted", 3)[0]; a.Policy != "Deck officers" {
		t.Errorf("after taking back: %+v", a)
	}
}

// What is typed as text is completed; an expectation that fails is shown when publishing; parts of the draft can be
// taken back.
func TestConsoleCompletesAndGuards(t *testing.T) {
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/lanes"), p.click("8. Wired ports"), p.see("By department"),
		p.click("Contractors aboard"), p.see("Applies to people where"), p.fill("Applies to people where", "gr"),
		p.click("group"),
		p.click("is not"), p.click("Harbour Office"), p.click("and"))
	settle(t, p.Page)
	steps(t, p.press("client.s"))
	settle(t, p.Page)
	if text, err := browser.Eval[string](p.Page, "document.querySelector('textarea[name$=when]').value"); err != nil ||
		text != `group is not "Harbour Office" and client.s` {
		t.Errorf("completed to %q, %v", text, err)
	}
	steps(t, p.fill("Applies to people where", "client.site is "), p.click("heron"), p.click("As a form"),
		p.see("client.site is heron"), p.focus("Value"), p.press("x"), p.see("client.site is heronx"),
		p.click("As text"))
	if text, err := browser.Eval[string](p.Page, "document.querySelector('textarea[name$=when]').value"); err != nil ||
		text != "client.site is heronx" {
		t.Errorf("from the form came %q, %v", text, err)
	}
}

// The remaining pages of this work: each kind is made and shown.
func TestConsoleOfWhatPoliciesAreMadeWith(t *testing.T) {
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	steps(
		t,
		p.click("Policies"),
		p.click("Calendars"),
		p.click("Add calendar"),
		p.fill("Name", "night"),
		p.fill("Time zone", "Nowhere"),
		p.click("Save to the draft"),
		p.see("is not a time zone"),
		p.fill("Time zone", "UTC"),
		p.fill("Beginning of span 1", "22:00"),
		p.fill("End of span 1", "06:00"),
		p.click("Save to the draft"),
		p.see("time is night"),
		p.click(
			"Passes",
		),
		p.click("Dictionary"),
		p.click("Add vendor"),
		p.fill("Name", "Pier Works"),
		p.fill("Enterprise number",
			"32473"),
		p.click("Save to the draft"),
		p.see(`number of "Harbour Instruments" already`),
		p.fill("Enterprise number", "55555"),
		p.click("Add attribute"),
		p.fill("Name 1", "Pier-Key"),
		p.click("Save to the draft"),
		p.see("1A 0C 0000D903 01 06 63726577"),
		p.click("Passes"),
		p.click("Add pass"),
		p.fill("Name", "night"),
		p.fill("Report sessions as",
			"{{person.mial}}"),
		p.click("Add attribute"),
		p.fill("Attribute", "Pier-Key"),
		p.fill("Value", "0042"),
		p.see("1A 0C 0000D903 01 06 30303432"),
		p.click("Save to the draft"),
		p.see("no directory reads"),
		p.fill("Report sessions as", "{{person.mail}}"),
		p.fill("VLAN", "5000"),
		p.see("VLAN 5000 does not exist"),
		p.fill("VLAN", "50"),
		p.click("Save to the draft"),
		p.see("Saved in the draft"),
		p.click(
			"Policies",
		),
		p.click("Overrides"),
		p.click("Add override"),
		p.fill("Name", "A friend"),
		p.fill("Person", "s.lodge"),
		p.choose("Gets the pass", "night"),
		p.click("Save to the draft"),
		p.see("4 changes"),
		p.see("added: name A friend"), // the page of what was added has taken the place of the form
		p.click("Expectations"),
		p.see("1 would not be met by the draft"),
		p.see("It would be: admitted, pass night, VLAN 50"),
		p.click("Publish"),
		p.fill("Note", "x"),
		p.press("\r"),
		p.see("expectations would not be met"),
		p.see("Publish despite the expectations"),
		p.press("\x1b"),
		p.click("Read"),
		p.see("added override"),
		p.see("A friend"),
	)
	const press = "[...document.querySelectorAll('li')].filter(l => l.innerText.includes('A friend') && " +
		"l.querySelector('button')).map(l => (l.querySelector('button').click(), 1)).length"
	if n, err := browser.Eval[int](p.Page, press); err != nil || n == 0 {
		t.Fatalf("no way to take the override back: %v", err)
	}
	steps(t, p.unsee("A friend"), p.see("Pier Works"), p.press("\x1b"), p.click("Publish"),
		p.fill("Note", "all but that"), p.press("\r"), p.see("Running revision 4"),
		p.click("History"), p.click("Export"), p.see("What is running"), p.press("\x1b"))
	text := w.wants(0, []string{"config", "export"}, "Pier-Key")
	if _, err := browser.Eval[bool](p.Page, `(() => { const d = new DataTransfer(); d.items.add(new File([`+
		jsText(strings.Replace(text, `vlan: "50"`, `vlan: "51"`, 1))+
		`], "c.yaml")); const i = document.querySelector('input[aria-label="Configuration file"]'); i.files = d.files; i.dispatchEvent(new Event("change", { bubbles: true })); return true })()`); err != nil {
		t.Fatal(err)
	}
	steps(t, p.see("VLAN 50 -> 51"), p.click("Put into the draft"), p.see("1 change"))
}

// jsText writes a text as a string of JavaScript.
func jsText(text string) string {
	return "`" + strings.NewReplacer("\\", "\\\\", "`", "\\`", "$", "\\$").Replace(text) + "`"
}
