package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

// seedOnPage reads the seed of a second factor that is shown.
func seedOnPage(t *testing.T, p pageSteps) string {
	t.Helper()
	text, err := browser.Eval[string](p.Page, `document.querySelector("[data-secret]").innerText`)
	if err != nil {
		t.Fatal(err)
	}
	return strings.ReplaceAll(strings.TrimSpace(text), " ", "")
}

// An engineer enrols the second factor that the role needs, and signs in with it; by the identity provider nothing more
// is asked. What they did stands in the audit, whose proof an auditor reads.
func TestConsoleSignsInWithSecondFactorAndProvider(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	w.provider()
	w.operator("e.marsh", "engineer")
	w.operatorSettings(func(o *apitype.OperatorSettings) { o.SecondFactor = []string{"engineer"} })
	p := pageSteps{page(t)}
	steps(
		t,
		p.open(w.app.URL),
		p.see("Harbour sign-on"),
		p.fill("Name", "e.marsh"),
		p.fill("Password", lab.OperatorPassword),
		p.click("Sign in"),
		p.see("Your role needs a second factor"),
		p.fill("Your password, once more", "not-this-one"),
		p.click("Show the picture"),
		p.see("password is wrong"),
		p.fill(
			"Your password, once more",
			lab.OperatorPassword,
		),
		p.click("Show the picture"),
		p.see("Take this picture"),
	)
	seed := seedOnPage(t, p)
	code := func(off time.Duration) string {
		c, err := factor.Code(seed, time.Now().Add(off))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	steps(
		t,
		p.fill("Code shown now", code(0)),
		p.click("Confirm"),
		p.see("recovery codes"),
		p.click("I have kept them"),
		p.see("The last hour"),
		p.click("Sign out"),
		p.see("Harbour sign-on"),
		p.fill("Name", "e.marsh"),
		p.fill("Password", lab.OperatorPassword),
		p.click("Sign in"),
		p.see("Code of your second factor"),
		p.fill("Code of your second factor", "000000"),
		p.click("Sign in"),
		p.see("is not accepted"),
		p.fill("Code of your second factor", code(30*time.Second)),
		p.click("Sign in"),
		p.see("The last hour"),
		p.open(w.app.URL+"/you"),
		p.see("It is asked for at each sign-in"),
		p.click("Sign out"),
		p.see("Harbour sign-on"),
		p.click("Harbour sign-on"),
		p.see("Who are you?"),
		p.click("Tamsin Mensah"),
		p.see("t.mensah · auditor"),
		p.open(w.app.URL+"/audit"),
		p.see("signed in by the identity provider"),
		p.see("enrolled the own second factor"),
		p.click("Verify"),
		p.see("are as they were recorded"),
		p.open(w.app.URL+"/clients/np-switch-1"),
		p.see("Changes"),
		p.see("o.brandt"),
		p.open(
			w.app.URL+"/you",
		),
		p.see("It is not kept here"),
		p.click("Sign out"),
		p.see("Signed out of the harbour"),
	)
}

// One engineer asks, the other agrees, each in the own browser; the settings are the owner's.
func TestConsoleFourEyes(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	w.operator("e.marsh", "engineer")
	owner, other := pageSteps{signedIn(t, w)}, pageSteps{page(t)}
	steps(t, owner.open(w.app.URL+"/operators"), owner.see("How operators sign in"),
		owner.click("A second engineer agrees"), owner.click("Save"), owner.see("It counts from now on"))
	w.wants(0, []string{"policy", "add", "Wired", "Guests", "-refuse", "-at", "1"})
	steps(t, owner.open(w.app.URL+"/lanes"), owner.see("Ask to publish"), owner.click("Ask to publish"),
		owner.see("a second operator has to publish it"), owner.fill("Note", "guests at the pier"),
		owner.click("Ask another operator"), owner.see("you ask to publish"))
	steps(
		t,
		other.open(w.app.URL),
		other.see("Sign in"),
		other.fill("Name", "e.marsh"),
		other.fill("Password", lab.OperatorPassword),
		other.click("Sign in"),
		other.see("o.brandt asks to publish"),
		other.click(
			"Agree",
		),
		other.see("guests at the pier"),
		other.click("Publish"),
		other.see("Running revision 2"),
	)
	steps(
		t,
		owner.open(w.app.URL+"/audit?kind=revision"),
		owner.see("published revision 2, for which o.brandt asked"),
	)
}

// What was typed is not lost by a click beside: leaving the page asks, and nothing is asked where nothing was typed.
func TestConsoleAsksBeforeTypingIsLost(t *testing.T) {
	w := start(t)
	w.basic("auto", "127.0.0.1")
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/clients"), p.see("np-switch-1"), p.click("np-switch-1"), p.see("Shared secret"),
		p.click("Passes"), p.see("crew"), // nothing was typed
		p.open(w.app.URL+"/clients"), p.click("np-switch-1"), p.see("Shared secret"), p.fill("Note", "by the gate"),
		p.click("Passes"), p.see("Leave without saving?"), p.click("Stay here"), p.unsee("Leave without saving?"),
		p.click("Save to the draft"), p.see("Saved in the draft"), p.click("Passes"), p.see("crew"),
		p.open(w.app.URL+"/people/new"), p.see("The name used to sign in"), p.fill("Name", "new.one"),
		p.click("Devices"), p.see("Leave without saving?"), p.click("Leave it"), p.see("Known devices"))
	// what is chosen without typing counts as well
	steps(t, p.open(w.app.URL+"/operators"), p.see("How operators sign in"), p.click("A second engineer agrees"),
		p.click("Clients"), p.see("Leave without saving?"), p.click("Leave it"), p.see("np-switch-1"))
	// a new object is saved, and its page opens without a question
	steps(t, p.open(w.app.URL+"/realms/new"), p.see("Lookup order"), p.fill("Name", "far"),
		p.fill("Name forms", "@far.example"), p.click("Add local"),
		p.click("Save to the draft"), p.unsee("Leave without saving?"), p.see("Saved in the draft"))
	if c := w.audit("kind=realm"); len(c) == 0 {
		t.Error("the realm was not saved")
	}
}

// However many clients there are, none is left out in silence.
func TestConsoleListsAllClients(t *testing.T) {
	w := start(t)
	for i := range 230 {
		w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, ClientFields: apitype.ClientFields{
			Name: fmt.Sprintf("sw-%03d", i), Enabled: true, Addresses: []string{fmt.Sprintf("192.0.2.%d", i)},
			MessageAuthenticator: "require"}}, nil)
	}
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/clients"), p.see("The first 200 by name are shown"), p.see("sw-199"),
		p.unsee("sw-200"), p.click("More"), p.see("sw-229"), p.unsee("by name are shown"))
}
