package e2e

import (
	"errors"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/test/e2e/browser"
)

var chromium = sync.OnceValues(browser.Start)

// page opens a tab; at its end the test fails if anything went wrong inside it, such as a violation of the policy.
func page(t *testing.T) *browser.Page {
	t.Helper()
	need(t, browser.Path, root()+"/console/dist/index.html")
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	p, err := b.NewPage()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		for _, text := range p.Errors() {
			t.Errorf("inside the page: %s", text)
		}
		p.Close()
	})
	return p
}

// steps fails the test at the first step that went wrong.
func steps(t *testing.T, list ...func() error) {
	t.Helper()
	for i, step := range list {
		if err := step(); err != nil {
			t.Fatalf("step %d: %v", i+1, err)
		}
	}
}

type pageSteps struct{ *browser.Page }

func (p pageSteps) open(url string) func() error   { return func() error { return p.Open(url) } }
func (p pageSteps) see(text string) func() error   { return func() error { return p.See(text) } }
func (p pageSteps) unsee(text string) func() error { return func() error { return p.Unsee(text) } }
func (p pageSteps) click(text string) func() error { return func() error { return p.Click(text) } }
func (p pageSteps) fill(label, v string) func() error {
	return func() error { return p.Fill(label, v) }
}
func (p pageSteps) choose(label, o string) func() error {
	return func() error { return p.Choose(label, o) }
}
func (p pageSteps) pick(option string) func() error { return func() error { return p.Pick(option) } }
func (p pageSteps) press(keys string) func() error  { return func() error { return p.Press(keys) } }
func (p pageSteps) focus(name string) func() error  { return func() error { return p.Focus(name) } }

// TestFirstDay is the first day of an administrator, from the setup code to reading why somebody was refused.
func TestFirstDay(t *testing.T) {
	w := &world{t: t, dir: t.TempDir()}
	w.boot()
	w.directory()
	p := pageSteps{page(t)}
	steps(
		t,
		p.open(w.app.URL),
		p.see("Create the first operator"),
		p.fill("Setup code", "WRONG-CODE"),
		p.fill("Name", "o.brandt"),
		p.fill("Password", "lantern-demo-2026"),
		p.click("Create and sign in"),
		p.see("setup code is wrong"),
		p.fill("Setup code", w.app.SetupCode),
		p.click("Create and sign in"),
		p.see(
			"Add a second owner",
		),
		p.fill("Name", "s.lindqvist"),
		p.fill("Password", "short"),
		p.click("Add them"),
		p.see("at least 10 characters"),
		p.click("Later"),
		p.see("The first hour"),
	)
	// A client, with a secret that is typed, and a mistake on the way.
	steps(t,
		p.click("Clients"), p.see("No client yet"), p.click("Add client"), p.fill("Name", "np-switch-1"),
		p.fill("Addresses", "127.0.0.300"), p.fill("Tags", "site=north-pier"),
		p.choose("Shared secret", "Enter the secret that is set on the device"), p.fill("Secret", secret),
		p.click("Save to the draft"),
		p.see("neither an address nor a prefix"),
		p.fill("Addresses", " 127.0.0.1/32 "), p.click("Save to the draft"), p.see("1 change"), p.see("never seen"),
	)
	// A directory: the test fails, is put right, and passes, before anything is saved.
	steps(
		t,
		p.click("Directories"),
		p.click("Add directory"),
		p.fill("Name", "LANTERN"),
		p.fill("Servers", w.ldaps),
		p.fill("Sign in as", lab.ServiceName+"@"+lab.Domain),
		p.fill("Password", "wrong"),
		p.click(
			"Test now",
		),
		p.see("which is not trusted"),
		p.fill("Trusted authority", w.ca.PEM),
		p.click("Test now"),
		p.see("Type the password again"),
		p.fill("Password", lab.ServicePassword),
		p.fill("Person to look up", "s.lodge"),
		p.click("Test now"),
		p.see("See the warnings below"),
		p.see("Harbour Office"),
		p.click("Save to the draft"),
		p.see("2 changes"),
	)
	steps(
		t,
		p.click("Directories"), p.click("Realms"),
		p.click("Add realm"),
		p.fill("Name", "shore"),
		p.fill("Name forms", "@lanternferries.example\nLANTERN\\\nbare"),
		p.click("Add LANTERN"),
		p.click("Save to the draft"),
		p.see("3 changes"),
		p.click("Passes"),
		p.click("Add pass"),
		p.fill("Name", "ticketing"),
		p.fill("VLAN", "5000"),
		p.see(
			"VLAN 5000 does not exist",
		),
		p.fill("VLAN", "20"),
		p.see("Tunnel-Private-Group-ID"),
		p.see("51 04 3230"),
		p.click("Save to the draft"),
		p.see("4 changes"),
		p.click("Policies"),
		p.see("No lane yet"),
		p.click("Add the first"),
		p.fill("Name", "Wired ports"),
		p.fill("Matches requests where", "grup is x"),
		p.see("Did you mean"),
		p.fill("Matches requests where", "port.type is ethernet"),
		p.click("Save to the draft"),
		p.see("5 changes"),
		p.click("Add policy"),
		p.fill("Name", "Ticketing"),
		p.fill("Search groups", "ticket"),
		p.click("Ticketing"),
		p.choose("Pass", "ticketing"),
		p.click("Save to the draft"),
		p.see("group is Ticketing"),
		p.unsee("Cancel"),
		p.click("Publish"),
		p.see("Publish as revision 1"),
		p.fill("Note", "the first day"),
		p.press("\r"),
		p.see("Running revision 1"),
	)
	// Somebody signs in, somebody is refused, and the console says why.
	steps(t, p.click("Attempts"), p.see("live"))
	for user, password := range map[string]string{"s.lodge": "harbour-s.lodge", "t.marchetti": "harbour-t.marchetti"} {
		if _, err := w.ask(func(r *trial.Request) { r.User, r.Password = user, password }); err != nil {
			t.Fatal(err)
		}
	}
	steps(t, p.see("Sunniva Lodge"), p.see("VLAN 20"), p.see("policy.none"))
	if _, err := browser.Eval[bool](p.Page,
		`([...document.querySelectorAll("tbody tr")].find((r) => r.innerText.includes("policy.none")).focus(), true)`); err != nil {
		t.Fatal(err)
	}
	steps(t, p.press("\r"), p.see("No policy of lane Wired ports matches"),
		p.see("none of the groups that this lane asks for"), p.see("Deck Officers"),
		p.click("Now"), p.see("1 admitted"), p.see("1 refused"), p.click("History"), p.see("the first day"))
}

func TestOrderByKeyboardAndDiscard(t *testing.T) {
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	steps(t, p.open(w.app.URL+"/lanes"), p.see("2. Device logins"), p.focus("Move lane VPN"), p.press(" "))
	settle(t, p.Page)
	steps(t, p.press("\u0304")) // arrow up
	settle(t, p.Page)
	steps(
		t,
		p.press(" "),
		p.see("2. VPN"),
		p.see("3. Device logins"),
		p.see("1 change"),
		p.click(
			"Read",
		),
		p.see("moved lane"),
		p.click("Discard all changes"),
		p.click("Discard them"),
		p.see("nothing unpublished"),
		p.see("2. Device logins"),
	)
}

// settle gives a move by keyboard the frames it is drawn in.
func settle(t *testing.T, p *browser.Page) {
	t.Helper()
	if _, err := browser.Eval[bool](p, `new Promise((ok) => setTimeout(() => ok(true), 350))`); err != nil {
		t.Fatal(err)
	}
}

func signedIn(t *testing.T, w *world) *browser.Page {
	t.Helper()
	p := pageSteps{page(t)}
	steps(t, p.open(w.app.URL), p.see("Sign in"), p.fill("Name", lab.OperatorName), p.fill("Password", "wrong-one"),
		p.click("Sign in"), p.see("name or password is wrong"),
		p.fill("Password", lab.OperatorPassword), p.click("Sign in"), p.see("Needs attention"))
	return p.Page
}

func TestSaveAndPublishReturnAndConflict(t *testing.T) {
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	steps(t, p.click("Passes"), p.click("contractors"), p.see("What the device gets"), p.fill("VLAN", "61"),
		p.see("51 04 3631"), p.click("Save and publish"), p.see("What is published"),
		p.click("Publish"), p.see("Running revision 4"),
		p.fill("VLAN", "62"))
	w.wants(0, []string{"pass", "change", "contractors", "-role", "guest"}) // somebody else, meanwhile
	steps(t, p.click("Save to the draft"), p.see("was changed meanwhile by o.brandt"), p.click("Reload it"),
		p.see("1 change"),
		p.click("Read"), p.see("role restricted -> guest"), p.click("Discard all changes"), p.click("Discard them"),
		p.see("nothing unpublished"),
		p.click("History"), p.see("Revision 3"),
		func() error { // the newest that is not running, revision 2
			_, err := browser.Eval[bool](
				p.Page,
				`([...document.querySelectorAll("button")].find((b) => b.innerText === "Return to it").click(), true)`,
			)
			return err
		}, p.see("VLAN 61 -> 60"), p.click("Return to this revision"), p.see("Running revision 5"))
	var pass apitype.Pass
	w.do("GET", "/passes/contractors", nil, &pass)
	if pass.VLAN != "60" {
		t.Errorf("the VLAN is %s", pass.VLAN)
	}
}

// A secret that was just made stays on the page, and is the one in use, however often the rest is saved.
func TestSavingAgainMakesNoOtherSecret(t *testing.T) {
	w := start(t)
	w.basic("require", "192.0.2.9")
	p := pageSteps{signedIn(t, w)}
	steps(t, p.click("Clients"), p.click("Add client"), p.fill("Name", "np-switch-2"),
		p.fill("Addresses", "127.0.0.1"), p.choose("Shared secret", "Generate a new secret, shown once"),
		p.click("Save to the draft"),
		p.see("shown only here"))
	shown := func() string {
		t.Helper()
		text, err := "", error(nil)
		for range 30 { // the page of a client that was just added is another
			if text, err = browser.Eval[string](p.Page,
				`document.querySelector("[data-secret]")?.innerText ?? ""`); err != nil || len(text) >= 16 {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		if err != nil || len(text) < 16 {
			t.Fatalf("the page shows %q: %v", text, err)
		}
		return text
	}
	first := shown()
	steps(t, p.fill("Note", "set on the device"), p.click("Save and publish"), p.see("What is published"),
		p.click("Publish"), p.see("Running revision 2"))
	if shown() != first {
		t.Error("another secret is shown after saving again")
	}
	if reply, err := w.ask(func(r *trial.Request) { r.Secret = first }); err != nil || !reply.Accepted {
		t.Errorf("the secret that was shown is not the one in use: %v", err)
	}
}

func TestPeopleOperatorsAndKeys(t *testing.T) {
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	steps(t, p.click("People"), p.see("Night Watch"), p.see("expired"), p.fill("Name of the person", "s.lodge"),
		p.click("Find"), p.see("OU=North Pier"),
		p.click("Add account"), p.see("The name used to sign in"), p.fill("Name", "two words"), p.click("Add"),
		p.see("holds a space"), p.fill("Name", "new.one"), p.fill("Password", "a-good-password"), p.click("Add"),
		p.see("may sign in"),
		p.click("new.one"), p.click("Remove"), p.see("Remove account"), p.click("Remove"), p.unsee("new.one"),
		p.click("Settings"), p.see("How operators sign in"), p.click("You"),
		p.fill("Name of the new token", "laptop"), p.click("Make a token"), p.see("tk_"),
		p.press("?"), p.see("find a page"), p.press("\x1b"), p.unsee("find a page"), p.press("/"))
	if id, err := browser.Eval[string](p.Page, "document.activeElement.getAttribute('aria-label')"); err != nil ||
		id != "Search" {
		t.Errorf("/ puts the focus on %q, %v", id, err)
	}
}

// The search box finds what it promises, and Enter opens the best answer.
func TestSearchFindsWhatItPromises(t *testing.T) {
	w := lantern(t)
	w.do(http.MethodPost, "/devices", apitype.DeviceFields{Match: "02-00-5E-77-00-01", Name: "Ticket printer",
		Enabled: true}, nil)
	for _, c := range []struct{ query, kind, name string }{
		{"np-switch-1", "client", "np-switch-1"}, {"NP-SWITCH", "client", "np-switch-1"},
		{"127.0.10.11", "client", "np-switch-1"},
		{"02:00:5e:77:00:01", "device", "02-00-5E-77-00-01"}, {"ticket pr", "device", "02-00-5E-77-00-01"},
		{"Night Watch", "account", "night.watch"}, {"wired", "lane", "Wired ports"}, {"ticketing", "pass", "ticketing"},
		{"nothing-like-it", "attempts", "nothing-like-it"},
	} {
		var found apitype.Answers
		w.do(http.MethodGet, "/search?q="+url.QueryEscape(c.query), nil, &found)
		if found.Items[0].Kind != c.kind || !strings.EqualFold(found.Items[0].Name, c.name) {
			t.Errorf("%q finds %+v first, not the %s %s", c.query, found.Items[0], c.kind, c.name)
		}
	}
	p := pageSteps{signedIn(t, w)}
	steps(
		t,
		p.see("Now"),
		p.fill("Search", "np-switch-1"),
		p.press("\r"),
		p.see("Shared secret"),
		p.fill("Search", "realms"),
		p.press("\r"),
		p.see("Lookup order"),
		p.fill(
			"Search",
			"nothing-like-it",
		),
		p.see("attempts with this text"),
		p.press("\r"),
		p.see("No matching attempts"),
	)
}

// overflows fails where a page is wider than the window, at three widths; 640 is 1280 at twice the size.
func overflows(t *testing.T, p pageSteps, path string) {
	const measure = `new Promise((ok) => requestAnimationFrame(() => requestAnimationFrame(() => {
		const main = document.querySelector("main"), over = [];
		if (document.documentElement.scrollWidth > innerWidth) over.push("the page");
		if (main.scrollWidth > main.clientWidth + 1) {
			const right = main.getBoundingClientRect().left + main.clientWidth;
			const wide = [...main.querySelectorAll("*")].filter((e) => e.getBoundingClientRect().right > right + 1);
			over.push(main.scrollWidth + ": " + wide.slice(-3).map((e) => e.tagName + " " + e.innerText?.slice(0, 30)).join(", "));
		}
		ok(over.join("; "));
	})))`
	for _, width := range []int{400, 640, 700} {
		if err := p.Size(width, 800); err != nil {
			t.Error(err)
			return
		}
		over, err := browser.Eval[string](p.Page, measure)
		if err != nil || over != "" {
			t.Errorf("%s at %d pixels is too wide: %s, %v", path, width, over, err)
		}
	}
	if err := p.Size(1280, 800); err != nil {
		t.Error(err)
	}
}

func TestEveryPageIsAccessibleByDayAndNight(t *testing.T) {
	w := lantern(t)
	for _, r := range []trial.Request{{User: "s.lodge", Password: "harbour-s.lodge"},
		{User: "e.holm", Password: "harbour-e.holm"}} {
		w.ask(func(q *trial.Request) {
			q.User, q.Password, q.Secret, q.From = r.User, r.Password, "gangway-and-bollard-99", must("127.0.10.99")
		})
	}
	refused := w.attempts("verdict=refused", 1)[0]
	w.wants(0, []string{"checkup", "run"}, "password expires")
	report := trial.Report{Server: w.app.Accounting[0].String(), From: must("127.0.10.99"), Timeout: time.Second,
		Tries:  3,
		Secret: "gangway-and-bollard-99", Attributes: []results.Attribute{{Name: "Acct-Status-Type", Value: "Start"},
			{Name: "Acct-Session-Id", Value: "s-1"}, {Name: "User-Name", Value: "s.lodge"}}}
	if err := report.Send(t.Context()); err != nil {
		t.Fatal(err)
	}
	session := w.openSessions("").Items[0].ID
	axe := axeScript(t)
	pages := map[string]string{"/": "Needs attention", "/attempts": "Took", "/attempts/" + refused.ID: "Facts",
		"/clients": "hh-vpn-1", "/clients/new": "Shared secret", "/directories": "LANTERN",
		"/directories/new": "Test now", "/directories/LANTERN?panel=groups": "the same",
		"/directories/LANTERN?panel=guard":      "locks an account",
		"/directories/LANTERN?panel=membership": "Who may create",
		"/directories/LANTERN?panel=copy":       "No copy was made yet",
		"/directories/LANTERN?panel=tree":       "naming context", "/directories/LANTERN?panel=person": "Look up",
		"/checkup": "Look at the service account", "/rehearsal": "Not rehearsed yet", "/analysis": "Worth knowing",
		"/expectations": "Ticketing at a counter", "/expectations/new": "Name sent",
		"/overrides": "Anselm on the bridge", "/overrides/new": "Gets the pass", "/remotes": "port-authority",
		"/remotes/new": "Shared secret", "/feeds": "Nothing is sent on", "/feeds/new": "What is sent",
		"/command-lists": "operators", "/command-lists/operators": "Type commands",
		"/journal": "Gear journal", "/try?protocol=tacacs": "Comes from", "/people/harbour.emergency": "Seal with",
		"/clients/hh-firewall-1": "Names in its certificate", "/pools": "203.0.113.64/26",
		"/pools/new": "One per line", "/calendars": "opening-hours", "/calendars/new": "Holidays",
		"/vendors":     "Tunnel-Private-Group-ID",
		"/vendors/new": "Enterprise number",
		"/lanes":       "Policy (first match)", "/passes": "contractors", "/passes/new": "What the device gets",
		"/people": "Night Watch", "/realms": "shore", "/factors": "phone of Nerys",
		"/factors?enrol=x": "Show QR code", "/readiness": "Would be refused today",
		"/readiness/report": "Seeds and keys",
		"/realms/new":       "Lookup order", "/history": "Revision 1",
		"/operators": "How operators sign in", "/nodes": "Invite a node", "/audit": "Verify", "/you": "Tokens",
		"/devices": "Known devices", "/devices/new": "MAC address or prefix",
		"/certificates": "Our authorities", "/certificates/new": "Where it comes from",
		"/authorities/new": "Where it comes from", "/trusts/new": "Revocation lists", "/try": "Nothing tried yet",
		"/lanes/new": "Methods, the preferred", "/sessions": "Person or device",
		"/sessions?state=ended": "has ended yet",
		"/sessions/" + session:  "What is known",
		"/presence":             "Report by hand", "/presence/who?address=192.0.2.41": "Nothing is known",
		"/presence/people/s.lodge": "the last hour", "/sightings": "what sources reported",
		"/sources": "our own sessions", "/sources/new": "Reports by", "/scopes": "Everything is watched",
		"/scopes/new": "leaves out what fits", "/subscribers": "Nobody is told", "/subscribers/new": "Told of groups",
		"/device-kinds": "No rules yet", "/device-kinds/new": "one line has to fit"}
	p := pageSteps{signedIn(t, w)}
	for path, text := range pages {
		if err := errors.Join(p.Open(w.app.URL+path), p.See(text)); err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		if over, err := browser.Eval[int](p.Page,
			"document.documentElement.scrollHeight - innerHeight"); err != nil ||
			over > 0 {
			t.Errorf("%s can be scrolled %d pixels past its end, %v", path, over, err)
		}
		overflows(t, p, path)
		findings, err := p.Axe(axe)
		if err != nil || len(findings) > 0 {
			t.Errorf("%s by day: %v\n%s", path, err, strings.Join(findings, "\n"))
		}
		// By night only the colours differ.
		const night = "(document.documentElement.classList.toggle('night'), true)"
		if _, err := browser.Eval[bool](p.Page, night); err != nil {
			t.Error(err)
		}
		if findings, err = p.Axe(axe, "color-contrast"); err != nil || len(findings) > 0 {
			t.Errorf("%s by night: %v\n%s", path, err, strings.Join(findings, "\n"))
		}
	}
}

// axeScript is what looks for faults of accessibility.
func axeScript(t *testing.T) string {
	t.Helper()
	axe, err := os.ReadFile(filepath.Join(root(), "console/node_modules/axe-core/axe.min.js"))
	if err != nil {
		need(t, root()+"/console/node_modules/axe-core/axe.min.js")
	}
	return string(axe)
}
