package e2e

import (
	"slices"
	"strings"
	"testing"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/test/e2e/browser"
)

// Each role's console shows what the role may see, and what it may not do is out of reach, with the reason.
func TestConsoleOfEachRole(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	p := pageSteps{page(t)}
	for _, c := range []struct {
		role      string
		sees, not []string
	}{
		{"engineer", []string{"Attempts", "Clients", "Policies", "Checkup", "Settings"}, nil},
		{"auditor", []string{"Attempts", "Clients", "Policies", "Gear journal", "Settings"}, nil},
		{"helpdesk", []string{"Attempts", "Sessions", "People", "Devices", "Settings"},
			[]string{"Clients", "Policies", "Checkup", "Gear journal"}},
		{"reception", []string{"Settings"}, []string{"Now", "Attempts", "People", "Clients"}},
	} {
		name := "a-" + c.role
		w.operator(name, c.role)
		steps(t, p.open(w.app.URL), p.see("Sign in"), p.fill("Name", name), p.fill("Password", lab.OperatorPassword),
			p.click("Sign in"), p.see("Sign out"), p.see("Settings"))
		shown, err := browser.Eval[string](p.Page, `document.querySelector('nav[aria-label="Pages"]').innerText`)
		if err != nil {
			t.Fatal(err)
		}
		pages := strings.Split(shown, "\n")
		for _, page := range c.sees {
			if !slices.Contains(pages, page) {
				t.Errorf("%s is not shown %s among %v", c.role, page, pages)
			}
		}
		for _, page := range c.not {
			if slices.Contains(pages, page) {
				t.Errorf("%s is shown %s", c.role, page)
			}
		}
		if c.role == "engineer" || c.role == "auditor" { // what belongs together are tabs
			steps(t, p.click("Settings"), p.see("Operators\nAudit\nSending on\nYou"))
		}
		if c.role == "auditor" {
			steps(t, p.open(w.app.URL+"/passes/crew"), p.see("What the device gets"))
			barred, err := browser.Eval[bool](p.Page, `[...document.querySelectorAll("button")].filter((b) =>
				/^(Save|Remove)/.test(b.innerText)).every((b) => b.disabled && b.title.startsWith("Your role does not allow this. These do: owner, engineer"))`)
			if err != nil || !barred {
				t.Errorf("an auditor may press what changes a pass: %v, %v", barred, err)
			}
		}
		steps(t, p.open(w.app.URL+"/you"), p.see("with the role "+c.role), p.click("Sign out"), p.see("Sign in"))
	}
	// an owner gives a role, and the last owner keeps theirs
	steps(t, p.fill("Name", lab.OperatorName), p.fill("Password", lab.OperatorPassword), p.click("Sign in"),
		p.see("The last hour"), p.open(w.app.URL+"/operators"), p.see("a-helpdesk"))
	set := func(name, role string) func() error {
		return func() error {
			_, err := browser.Eval[bool](
				p.Page,
				`(() => { const s = document.querySelector('[aria-label="Role of `+name+
					`"]'); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "`+role+
					`"); s.dispatchEvent(new Event("change", { bubbles: true })); return true; })()`,
			)
			return err
		}
	}
	steps(t, set("a-helpdesk", "engineer"))
	waitFor(t, "the new role", func() bool {
		out, _ := w.run("", "tollgate", "operator", "list")
		return strings.Contains(strings.Join(strings.Fields(out), " "), "a-helpdesk engineer")
	})
	steps(t, set("o.brandt", "auditor"), p.see("The last owner stays one"))
}
