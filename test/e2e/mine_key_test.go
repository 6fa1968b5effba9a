package e2e

import (
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// In a browser: a person adds a security key to the own devices and comes back with it, on the name of the page; it is
// no second factor at gear, and not the last device.
func TestPeopleUseASecurityKey(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	_, recovery := w.ownCode("m.wade", wadePassword)
	p := pageSteps{page(t)}
	if err := p.SecurityKey(); err != nil {
		t.Fatal(err)
	}
	base := strings.Replace(w.app.PortalURL, "127.0.0.1", "localhost", 1)
	enter := func(address, code string) []func() error {
		return []func() error{p.open(address + "/mine"), p.fill("Name", "m.wade"), p.fill("Password", wadePassword),
			p.fill("Code, or a recovery code", code), p.click("Next"), p.see("Makes codes")}
	}
	steps(t, enter(w.app.PortalURL, recovery[0])...) // at an address, where browsers offer no keys
	steps(t, p.click("Add a security key"), p.see("at the name of this page alone"))
	steps(t, enter(base, recovery[1])...)
	steps(t, p.fill("What the key is called", "Blue key"), p.click("Add a security key"), p.see("Remove Blue key"))
	axe := axeScript(t)
	if findings, err := p.Axe(axe); err != nil || len(findings) > 0 {
		t.Errorf("%v %v", findings, err)
	}
	overflows(t, p, "/mine")
	if n, err := browser.Eval[int](p.Page, `document.querySelectorAll("form[action='/mine/remove']").length`); err != nil ||
		n != 1 {
		t.Errorf("%d devices can be removed, %v", n, err)
	}
	steps(t, p.click("Sign out"), p.see("Sign in to look after"), p.fill("Name", "m.wade"), p.fill("Password", "wrong"),
		p.click("Use a security key"), p.see("Something of this is wrong"), p.fill("Password", wadePassword),
		p.click("Use a security key"), p.see("Blue key"), p.see("6 are left"))
	w.wants(0, []string{"audit", "list"}, "added a security key to the own devices", "with a security key")
	// The key alone would let nobody in at gear.
	var list apitype.Page[apitype.Factor]
	w.do(http.MethodGet, "/factors?q=m.wade", nil, &list)
	for _, f := range list.Items {
		if f.Kind == "code" {
			w.do(http.MethodDelete, "/factors/"+f.ID, nil, nil)
		}
	}
	w.wants(0, []string{"factor", "ready", "Crew"}, "none")
	steps(t, p.open(base+"/mine"), p.see("Sign in to look after"), p.unsee("Blue key"))
	if list := p.Errors(); len(list) > 0 {
		t.Errorf("the console of the browser has %q", list)
	}
}

// In a browser: whoever enrols by an invitation adds a security key at once, and reaches the own devices with it.
func TestPeopleAddASecurityKeyWhenTheyEnrol(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", wadePassword, "Crew")
	p := pageSteps{page(t)}
	if err := p.SecurityKey(); err != nil {
		t.Fatal(err)
	}
	named := func(link string) string { return strings.Replace(link, "127.0.0.1", "localhost", 1) }
	base := named(w.app.PortalURL)
	steps(t, p.open(named(w.enrolLink("m.wade"))), p.fill("Password", wadePassword), p.click("Next"),
		p.see("authenticator app"))
	seed, err := browser.Eval[string](p.Page, "document.querySelector('.seed').textContent")
	if err != nil {
		t.Fatal(err)
	}
	code, err := factor.Code(strings.ReplaceAll(seed, " ", ""), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	steps(t, p.fill("Code", code), p.click("Confirm"), p.see("It is done"), p.see("reach your devices without a code"))
	axe := axeScript(t)
	if findings, err := p.Axe(axe); err != nil || len(findings) > 0 {
		t.Errorf("%v %v", findings, err)
	}
	overflows(t, p, "/confirm")
	if dir := os.Getenv("SHOTS"); dir != "" {
		p.Shot(dir + "/enrolled-key.png")
	}
	proof, err := browser.Eval[string](p.Page, "document.getElementById('said').dataset.proof")
	if err != nil || proof == "" {
		t.Fatal(err)
	}
	// What the page carries adds one key, while the devices are as they were; nobody is signed in by it.
	v := w.visitor("en")
	sends := func(want int, method, path, body, cookie string) string {
		t.Helper()
		req, err := http.NewRequest(method, v.base+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Origin", base)
		if req.Host = strings.TrimPrefix(base, "http://"); cookie != "" {
			req.AddCookie(&http.Cookie{Name: "tollgate_mine", Value: cookie})
		}
		status, text := v.send(req)
		if status != want {
			t.Errorf("%s %s: %d %s, want %d", method, path, status, text, want)
		}
		return text
	}
	with := func(proof string) string { return `{"proof":"` + proof + `"}` }
	sends(http.StatusForbidden, http.MethodPost, "/mine/key/begin", with(""), "")
	sends(http.StatusForbidden, http.MethodPost, "/mine/key/begin", with(proof[:len(proof)-4]), "")
	sends(http.StatusOK, http.MethodPost, "/mine/key/begin", with(proof), "")
	steps(t, p.click("Add a security key"), p.see("The security key is added"), p.see("Keep these recovery codes"))
	sends(http.StatusForbidden, http.MethodPost, "/mine/key/begin", with(proof), "") // once
	sends(http.StatusForbidden, http.MethodPost, "/mine/recovery", "", proof)
	if page := sends(http.StatusOK, http.MethodGet, "/mine", "", proof); strings.Contains(page, "Makes codes") {
		t.Error("what lets a key be added shows the devices")
	}
	var list apitype.Page[apitype.Factor]
	w.do(http.MethodGet, "/factors?q=m.wade", nil, &list)
	if len(list.Items) != 2 {
		t.Fatalf("%+v", list.Items)
	}
	steps(t, p.open(base+"/mine"), p.see("Sign in to look after"), p.fill("Name", "m.wade"),
		p.fill("Password", wadePassword), p.click("Use a security key"), p.see("Remove Security key"))
	if list := p.Errors(); len(list) > 0 {
		t.Errorf("the console of the browser has %q", list)
	}
}
