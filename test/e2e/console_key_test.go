package e2e

import (
	"net/http"
	"strings"
	"testing"

	"tollgate.example/key/test/e2e/browser"
)

// In a browser with a security key: an operator registers it, and signs in with it from then on; nobody does by another
// key, by an answer of before, or at an address that the key is not for.
func TestOperatorsSignInWithASecurityKey(t *testing.T) {
	w := start(t)
	p := pageSteps{page(t)}
	if err := p.SecurityKey(); err != nil {
		t.Fatal(err)
	}
	base := strings.Replace(w.app.URL, "127.0.0.1", "localhost", 1)
	in := func(p pageSteps, base string) {
		t.Helper()
		steps(
			t,
			p.open(base),
			p.see("Sign in"),
			p.fill("Name", "o.brandt"),
			p.fill("Password", "lantern-demo-2026"),
			p.click("Sign in"),
		)
	}
	in(p, base)
	steps(t, p.see("Needs attention"), p.open(base+"/you"), p.see("keeps out whoever has the password alone"),
		p.click("Enrol ..."), p.fill("Your password, once more", "wrong-one"), p.click("Register a security key"),
		p.see("wrong"), p.fill("Your password, once more", "lantern-demo-2026"), p.click("Register a security key"),
		p.see("shown only here"))
	codes, err := browser.Eval[string](p.Page, "document.querySelector('[data-secret]').innerText")
	if err != nil || len(strings.Fields(codes)) != 8 {
		t.Errorf("recovery codes: %q, %v", codes, err)
	}
	steps(t, p.click("I have kept them"), p.see("security key, since"), p.click("Sign out"),
		p.unsee("security key, since"))
	in(p, base)
	steps(
		t,
		p.see("Code of your second factor"),
		p.fill("Code of your second factor", "000000"),
		p.click("Sign in"),
		p.see("not accepted"),
		p.click("Use a security key"),
		p.see("Sign out"),
	)
	w.wants(0, []string{"audit", "list"}, "registered a security key", "signed in")

	other := pageSteps{page(t)} // somebody who knows the password has a key of their own
	if err := other.SecurityKey(); err != nil {
		t.Fatal(err)
	}
	in(other, base)
	steps(t, other.see("Code of your second factor"), other.click("Use a security key"), other.see("Sign in"))
	if text, err := other.Text(); err != nil || strings.Contains(text, "Sign out") {
		t.Errorf("signed in by another key: %s, %v", text, err)
	}
	in(other, w.app.URL) // by its address, which no key is for
	steps(t, other.see("Code of your second factor"), other.click("Use a security key"),
		other.see("only to pages with a name"))
	for _, body := range []string{`{"name":"o.brandt","password":"lantern-demo-2026","key":{"session":"","response":{}}}`,
		`{"name":"o.brandt","password":"lantern-demo-2026","key":{"session":"00","response":{"id":"x"}}}`,
		`{"name":"o.brandt","password":"lantern-demo-2026","key":{"session":"00","response":null}}`} {
		if status, text := w.bareBody("", http.MethodPost, "/sign-in", body); status != http.StatusUnauthorized &&
			status != http.StatusUnprocessableEntity {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	steps(t, p.open(base+"/you"), p.see("security key, since"),
		p.fill("A code, to change something", strings.Fields(codes)[0]), p.click("Remove"),
		p.see("keeps out whoever has the password alone"))
}
