package e2e

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/portal"
)

// In a browser of the size of a phone: a person pairs it with the link of an invitation, and approves a sign-in by the
// number that is shown there; what somebody else began raises the alarm that an operator sees.
func TestPhoneApprovesInABrowser(t *testing.T) {
	w := &world{t: t, dir: t.TempDir(), how: func(o *app.Options) { o.Push = "network@lanternferries.example" }}
	w.first()
	w.basic("require", "127.0.0.1")
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: wadePassword,
		AccountFields: apitype.AccountFields{Name: "m.wade", Display: "Mara Wade", Groups: []string{"Crew"},
			Enabled: true}}, nil)
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "approval", "-reject-delay", "0", "-publish"},
		"revision")
	link := w.enrolLink("m.wade")
	p := pageSteps{page(t)}
	if err := p.Size(390, 780); err != nil {
		t.Fatal(err)
	}
	axe := axeScript(t)
	fine := func(what string) {
		t.Helper()
		if findings, err := p.Axe(axe); err != nil || len(findings) > 0 {
			t.Errorf("%s: %v\n%s", what, err, strings.Join(findings, "\n"))
		}
		overflows(t, p, what)
		if dir := os.Getenv("SHOTS"); dir != "" {
			p.Shot(dir + "/phone-" + strings.ReplaceAll(what, " ", "-") + ".png")
		}
	}
	steps(t, p.open(w.app.PortalURL+"/phone"), p.see("not set up yet"), p.open(link), p.see("Hello Mara Wade"),
		p.fill("Password", wadePassword), p.click("Next"), p.see("Approve sign-ins on your phone"))
	fine("two ways")
	steps(t, p.click("This is the phone"), p.see("Use this phone to approve"),
		p.fill("What this phone is called", "Mara's phone"))
	fine("pairing")
	steps(t, p.click("Use this phone"), p.see("Done, Mara Wade"), p.see("recovery codes"))
	fine("recovery codes")
	steps(t, p.click("Go on"), p.see("Nothing waits for you"))
	fine("at rest")
	s := w.begins("m.wade", wadePassword)
	number := s.shown()
	steps(t, p.see("Sign-in at np-switch-1"), p.see("From 00-00-5E-00-53-07"))
	fine("an ask")
	steps(t, p.fill("Number shown at the sign-in", "4"), p.click("Approve"), p.see("Enter the two digits"),
		p.fill("Number shown at the sign-in", fmt.Sprint(number)), p.click("Approve"), p.see("Approved."))
	s.ends("Access-Accept", "ok")
	steps(t, p.open(w.app.PortalURL+"/phone"), p.see("Mara's phone")) // opened another time
	// While the page is closed the worker tells of a sign-in. A window like this one of the browser subscribes nowhere.
	steps(t, p.see("Tell me while this page is closed"))
	title, err := p.Pushed(w.app.PortalURL, string(portal.PushText("de", "np-switch-1")))
	if err != nil || title != "Eine Anmeldung wartet auf Sie: np-switch-1" {
		t.Errorf("the phone tells %q, %v", title, err)
	}
	s = w.begins("m.wade", wadePassword)
	steps(t, p.see("Sign-in at np-switch-1"), p.click("This is not me"), p.see("Change your password now"))
	s.ends("Access-Reject", "factor.not-me")
	w.wants(0, []string{"factor", "remove", "Mara's phone"}, "removed")
	steps(t, p.see("not in use any more"))
	fine("removed")
	if list := p.Errors(); len(list) > 0 {
		t.Errorf("the console of the browser has %q", list)
	}
	console := pageSteps{signedIn(t, w)}
	steps(t, console.see("m.wade says of a sign-in: this is not me"))
}
