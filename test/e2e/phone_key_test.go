package e2e

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// In a browser: a phone asks for a security key whenever a sign-in is approved on it. Whoever holds the phone and is
// somebody else approves nothing, whatever the page is made to send, and refuses as before.
func TestAPhoneAsksForItsKey(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-reject-delay", "0", "-publish"},
		"revision")
	p := pageSteps{page(t)}
	if err := p.SecurityKey(); err != nil {
		t.Fatal(err)
	}
	if err := p.Size(390, 780); err != nil {
		t.Fatal(err)
	}
	named := func(link string) string { return strings.Replace(link, "127.0.0.1", "localhost", 1) }
	steps(t, p.open(named(w.enrolLink("m.wade"))), p.fill("Password", wadePassword), p.click("Next"),
		p.see("Approve sign-ins on your phone"))
	link, err := browser.Eval[string](p.Page, `document.querySelector("a[href*='/phone#p=']").href`)
	if err != nil {
		t.Fatal(err)
	}
	steps(t, p.open(named(link)), p.click("Use this phone"), p.click("Go on"), p.see("whoever takes this phone"))
	if dir := os.Getenv("SHOTS"); dir != "" {
		p.Shot(dir + "/phone-key.png")
	}
	steps(t, p.click("Approve with a security key alone"), p.see("From now on approving takes your security key"),
		p.see("Do without the security key"))
	w.wants(0, []string{"factor", "show", "m.wade"}, "with a security key alone")
	w.wants(0, []string{"audit", "list"}, "has the phone My phone ask for a security key")
	overflows(t, p, "/phone")
	if findings, err := p.Axe(axeScript(t)); err != nil || len(findings) > 0 {
		t.Errorf("%v %v", findings, err)
	}

	approves := func(number int) []func() error {
		return []func() error{p.see("Sign-in at np-switch-1"),
			p.fill("Number shown at the sign-in", fmt.Sprint(number)), p.click("Approve")}
	}
	s := w.begins("m.wade", wadePassword)
	number := s.shown()
	steps(t, approves(number)...)
	steps(t, p.see("Approved."))
	s.ends("Access-Accept", "ok")

	// Somebody else has the phone.
	finger := func(own bool) func() error { return func() error { return p.Fingers(own) } }
	s = w.begins("m.wade", wadePassword)
	number = s.shown()
	steps(t, finger(false))
	steps(t, approves(number)...)
	steps(t, p.see("The security key was not accepted"))
	if _, err := browser.Eval[any](p.Page, `say("")`); err != nil { // so that it is not read twice
		t.Fatal(err)
	}
	steps(t, p.click("Do without the security key"), p.see("The security key was not accepted"), finger(true))
	answers := func(what, key, want string) {
		t.Helper()
		got, err := browser.Eval[string](p.Page, `(async () => {
			const self = await load();
			const ask = document.querySelector("form.ask").dataset.ask;
			const number = `+fmt.Sprint(number)+`;
			try {
				const key = await (`+key+`)(self);
				await post("/phone/answer", async (at) => ({ device: self.device, at, ask, verdict: "approve", number, ...key,
					signature: await sign(self.key, `+"`tollgate answer\\n${self.device}\\n${at}\\n${ask}\\napprove\\n${number}`"+`) }));
				return "approved";
			} catch (e) { return e.why ?? String(e); }
		})()`)
		if err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", what, got, err, want)
		}
	}
	answers("without the key", `async () => ({})`, "key")
	answers("with a key that did not verify who touches it", `async (self) => {
		const { session, options } = await keys(self, "ask");
		options.userVerification = "discouraged";
		await new Promise((r) => setTimeout(r, 50));
		const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options);
		const shown = (await navigator.credentials.get({ publicKey })).toJSON();
		return { session, response: shown };
	}`, "touched")
	answers("with what was shown for another purpose before", `async (self) => {
		const one = await show(self);
		const other = await keys(self, "ask");
		return { session: other.session, response: one.response };
	}`, "touched")
	answers("with what was shown before", `async (self) => {
		const one = await show(self);
		await keys(self, "drop", one.session, { ...one.response, id: "AAAA", rawId: "AAAA" }).catch(() => {});
		return one;
	}`, "touched")
	answers("by a ceremony that is none", `async () => ({ session: "00", response: {} })`, "touched")
	if got, err := browser.Eval[string](p.Page, `load().then((self) => keys(self, "set", "00", {})).catch((e) => e.why)`); err != nil ||
		got != "key" {
		t.Errorf("another key in place of the first: %q, %v", got, err)
	}
	steps(t, p.click("Refuse"), p.see("Refused."))
	s.ends("Access-Reject", "factor.refused")

	s = w.begins("m.wade", wadePassword) // the owner is back
	steps(t, approves(s.shown())...)
	steps(t, p.see("Approved."))
	s.ends("Access-Accept", "ok")
	steps(t, p.click("Do without the security key"), p.see("approving takes no security key"), p.see("whoever takes"))
	s = w.begins("m.wade", wadePassword)
	steps(t, approves(s.shown())...)
	steps(t, p.see("Approved."))
	s.ends("Access-Accept", "ok")
	var list apitype.Page[apitype.Factor]
	if w.do(http.MethodGet, "/factors?q=m.wade", nil, &list); len(list.Items) != 1 || list.Items[0].Keyed {
		t.Errorf("%+v", list.Items)
	}
	// Chromium reports a refused request as an error of the page.
	for _, e := range p.Errors() {
		if !strings.Contains(e, "403") && !strings.Contains(e, "409") {
			t.Errorf("the console of the browser has %q", e)
		}
	}
}
