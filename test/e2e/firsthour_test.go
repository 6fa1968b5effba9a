package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// person is what a person does in the first hour: with a mouse, or with the keyboard alone.
type person interface {
	press(button string) func() error
	fill(label, text string) func() error
}

// mouse counts its clicks: one for each button, one for each field.
type mouse struct {
	p      pageSteps
	clicks int
}

func (m *mouse) press(button string) func() error {
	return func() error {
		m.clicks++
		return m.p.Click(button)
	}
}

func (m *mouse) fill(label, text string) func() error {
	return func() error {
		m.clicks++
		return m.p.Fill(label, text)
	}
}

// keys moves by Tab alone, from wherever the focus is, and never around the whole page twice.
type keys struct{ p pageSteps }

const focused = `(() => { const e = document.activeElement; if (!e) return "";
	const label = e.id && document.querySelector('label[for="' + CSS.escape(e.id) + '"]');
	return (e.getAttribute("aria-label") || label?.innerText || e.innerText || "").trim(); })()`

func (k *keys) to(name string) error {
	for range 160 {
		at, err := browser.Eval[string](k.p.Page, focused)
		if err != nil {
			return err
		}
		if at == name {
			return nil
		}
		if err := k.p.Press("\t"); err != nil {
			return err
		}
	}
	return fmt.Errorf("Tab does not come to %q", name)
}

func (k *keys) press(button string) func() error {
	return func() error {
		if err := k.p.See(button); err != nil {
			return err
		}
		if err := k.to(button); err != nil {
			return err
		}
		return k.p.Press("\r")
	}
}

func (k *keys) fill(label, text string) func() error {
	return func() error {
		if err := k.to(label); err != nil {
			return err
		}
		if _, err := browser.Eval[bool](k.p.Page, "(document.activeElement.select?.(), true)"); err != nil {
			return err
		}
		return k.p.Press(text)
	}
}

// From nothing to the first device that is admitted by PEAP into its VLAN, with a real directory and a real supplicant,
// in at most seven forms and twenty-five clicks; then by the keyboard alone.
func TestFirstHour(t *testing.T) {
	for _, with := range []string{"mouse", "keyboard"} {
		t.Run(with, func(t *testing.T) {
			s := startSlapd(t)
			w := &world{t: t, dir: t.TempDir()}
			w.boot()
			p := pageSteps{page(t)}
			m := &mouse{p: p}
			var h person = m
			if with == "keyboard" {
				h = &keys{p}
			}
			begun := time.Now()
			steps(t, p.open(w.app.URL), p.see("Create the first operator"))
			if _, err := browser.Eval[bool](p.Page,
				`(window.submitted = 0, addEventListener("submit", () => window.submitted++, true), true)`); err != nil {
				t.Fatal(err)
			}
			steps(t, h.fill("Setup code", w.app.SetupCode),
				h.fill("Name", "o.brandt"), h.fill("Password", "lantern-demo-2026"), h.press("Create and sign in"),
				p.see("Add a second owner"), h.press("Later"), p.see("The first hour"), p.see("0 of 7"))
			steps(t, h.fill("Domain or server", s.ldaps), h.fill("Service account",
				"cn=tollgate,dc=lanternferries,dc=example"), h.fill("Its password", "beacon-and-buoy"),
				h.press("Find it"), p.see("Trust this authority"), h.press("Trust this authority"), p.see("let in"),
				h.press("Connect it"), p.see("1 of 7"))
			steps(t, p.see("Name of the realm"), h.press("Make it"), p.see("2 of 7"),
				p.see("@lanternferries.example, bare names"))
			steps(t, p.see("DNS name of this server"), h.press("Make it"), p.see("3 of 7"))
			steps(t, p.see("PEAP with EAP-GTC"), h.fill("Group 1", "Shore Staff"), h.fill("VLAN 1", "20"),
				h.press("Make it"), p.see("4 of 7"))
			steps(t, p.see("Name of the client"), h.fill("Name of the client", "np-switch-1"),
				h.fill("Its address", "127.0.0.1"), h.press("Add it and publish"), p.see("Settings for the device"),
				p.see("5 of 7"), p.see("Nothing has asked yet"))
			made, err := browser.Eval[string](p.Page, `document.querySelector("[data-secret]").innerText`)
			if err != nil || len(made) < 20 {
				t.Fatalf("the secret is shown as %q, %v", made, err)
			}
			var signed apitype.SignedIn
			w.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "o.brandt", Password: "lantern-demo-2026",
				TokenName: "test"}, &signed)
			w.api.Token = signed.Token
			var authorities apitype.Page[apitype.Authority]
			w.do(http.MethodGet, "/authorities", nil, &authorities)
			w.write("ca.pem", authorities.Items[0].PEM)
			block := ` eap=PEAP
 anonymous_identity="anonymous"
 identity="s.lodge@lanternferries.example"
 password="PASSWORD"
 phase2="auth=GTC"
 ca_cert="DIR/ca.pem"
 domain_match="radius.lanternferries.example"`
			w.eapol(252, strings.Replace(block, "PASSWORD", "wrong", 1), "-s", made)
			steps(t, p.see("on np-switch-1: refused"), p.see("Its road"))
			out := w.eapol(0, strings.Replace(block, "PASSWORD", "harbour-s.lodge", 1), "-s", made)
			if !strings.Contains(out, "Tunnel-Private-Group-ID") && !strings.Contains(out, "Attribute 81") {
				t.Errorf("no VLAN in\n%s", tail(out, 30))
			}
			steps(t, p.see("VLAN 20"), p.see("6 of 7"))
			forms, err := browser.Eval[int](p.Page, "window.submitted")
			if err != nil || forms == 0 {
				t.Errorf("%d forms were counted, %v", forms, err)
			}
			seconds, clicks := time.Since(begun).Seconds(), m.clicks
			steps(t, p.see("A second owner"), h.fill("Name", "s.lindqvist"),
				h.fill("Password", "lantern-demo-2026"), h.press("Add them"), p.see("The key file is kept"),
				h.press("The key file is kept"), p.unsee("The first hour"), p.see("The last hour"))
			if with == "mouse" {
				t.Logf("%d forms, %d clicks to the first admitted device, %.1f s", forms, clicks, seconds)
				if forms > 7 || clicks > 25 {
					t.Errorf("%d forms and %d clicks are too many", forms, clicks)
				}
			}
		})
	}
}

// Steps can be put off and taken up, wrong input loses nothing, and local accounts serve as well.
func TestFirstHourWithDetours(t *testing.T) {
	w := start(t)
	p := pageSteps{signedIn(t, w)}
	steps(
		t,
		p.see("0 of 7"),
		p.click("No directory: add accounts here"),
		p.fill("Name", "two words"),
		p.fill(
			"Password",
			"gangway-and-rope",
		),
		p.fill("Group", "crew"),
		p.click("Add the account"),
		p.see("holds a space"),
		p.fill("Name", "k.nance"),
		p.click("Add the account"),
		p.see("1 account here"),
		p.click("Not now"),
		p.see("put off"),
		p.click("Do it now: Names"),
		p.see("Name of the realm"),
		p.fill("Name forms", "bare"),
		p.click("Make it"),
		p.see("Realm everybody: bare names"),
		p.fill("DNS name of this server", "no name"),
		p.click("Make it"),
		p.see("no DNS name"),
		p.fill("DNS name of this server", "radius.lanternferries.example"),
		p.click("Make it"),
		p.see("3 of 7"),
		p.see("PEAP with EAP-MSCHAPv2"),
		p.click("Make it"),
		p.see("Not saved"),
		p.fill("Group 1", "crew"),
		p.fill("VLAN 1", "5000"),
		p.click("Make it"),
		p.see("Not saved"),
		p.fill(
			"VLAN 1",
			"30",
		),
		p.fill("VLAN of everybody else", "90"),
		p.choose("On", "everything"),
		p.click("Make it"),
		p.see("Lane Everything: 2 policies, 2 passes"),
	)
	var lanes apitype.Page[apitype.Lane]
	w.do(http.MethodGet, "/lanes", nil, &lanes)
	if l := lanes.Items[0]; l.When != "always" ||
		l.Policies[0].Groups[0] != (config.GroupRow{Group: "crew", Pass: "crew"}) ||
		l.Policies[1].Pass != "Everybody else" {
		t.Errorf("made %+v", l)
	}
	w.refused(http.StatusUnprocessableEntity, http.MethodPost, "/first-hour/results", apitype.FirstResults{
		Rows: []apitype.FirstRow{
			{Group: "crew", VLAN: "10"},
			{Group: "Crew", VLAN: "20"},
		}, Ports: "any"}, "rows[1].group")
	w.refused(
		http.StatusConflict,
		http.MethodPost,
		"/first-hour/certificate",
		apitype.FirstCertificate{Name: "x.example"},
		"already",
	)
}

// The terminal leads through the same, and goes on where it was left.
func TestFirstHourInATerminal(t *testing.T) {
	s := startSlapd(t)
	w := start(t)
	setUp := func(input string, wanted ...string) string {
		t.Helper()
		out, code := w.run(input, "tollgate", "setup")
		for _, text := range wanted {
			if code != 0 || !strings.Contains(out, text) {
				t.Errorf("setup ends with %d and does not say %q:\n%s", code, text, out)
			}
		}
		return out
	}
	setUp("", "0 of 7")
	setUp(s.ldaps+"\ncn=tollgate,dc=lanternferries,dc=example\nbeacon-and-buoy\nno\n", "Names", "0 of 7")
	setUp(
		s.ldaps+"\ncn=tollgate,dc=lanternferries,dc=example\nbeacon-and-buoy\nyes\nPIER\n\n\n",
		"Directory PIER",
		"3 of 7",
	)
	out := setUp("Shore Staff\n20\n\n\n\nnp-switch-1\n127.0.0.1\n", "Published", "5 of 7")
	if !strings.Contains(out, "Shared secret") {
		t.Errorf("no secret in\n%s", out)
	}
	var directories apitype.Page[apitype.Directory]
	w.do(http.MethodGet, "/directories", nil, &directories)
	if groups := directories.Items[0].Groups; len(groups) != 1 || groups[0].Name != "Shore Staff" {
		t.Errorf("the group is not picked: %+v", groups)
	}
}

// Suggestions of a condition take no Tab, and Escape closes them before the dialog; arrows go through them.
func TestConditionByKeyboard(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	p := pageSteps{signedIn(t, w)}
	k := &keys{p}
	at := func(want string) func() error {
		return func() error {
			got, err := browser.Eval[string](p.Page, focused)
			if err == nil && got != want {
				err = fmt.Errorf("the focus is on %q, not on %q", got, want)
			}
			return err
		}
	}
	steps(
		t,
		p.open(w.app.URL+"/lanes"),
		k.press("Add policy"),
		k.fill("Name", "By keyboard"),
		k.fill("Applies to people where", "gro"),
		p.see("Alt ↓"),
		p.press("\t"),
		at("Search groups"),
		k.fill(
			"Applies to people where",
			"group",
		),
		p.see("Alt ↓"),
		p.press("\x1b"),
		p.unsee("Alt ↓"),
		p.see("Applies to people where"),
		at(
			"Applies to people where",
		),
		p.press(" "),
		p.see("Alt ↓"),
		p.press("\x1b"),
		p.unsee("Alt ↓"),
		p.press("\x1b"),
		p.see("Close without saving what you typed?"),
	)
}
