package e2e

import (
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/portal"
	"tollgate.example/key/test/e2e/browser"
)

// visitor is somebody with a browser without scripts.
type visitor struct {
	t        *testing.T
	base     string
	language string
	client   http.Client
}

func (w *world) visitor(language string) *visitor {
	return &visitor{t: w.t.(*testing.T), base: w.app.PortalURL, language: language,
		client: http.Client{Transport: &cookies{kept: map[string]string{}}}}
}

// cookies keeps cookies as browsers do on loopback addresses: those for secure connections too.
type cookies struct{ kept map[string]string }

func (c *cookies) RoundTrip(req *http.Request) (*http.Response, error) {
	req = req.Clone(req.Context())
	for name, value := range c.kept {
		req.AddCookie(&http.Cookie{Name: name, Value: value})
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err == nil {
		for _, set := range resp.Cookies() {
			if c.kept[set.Name] = set.Value; set.MaxAge < 0 {
				delete(c.kept, set.Name)
			}
		}
	}
	return resp, err
}

func (v *visitor) send(req *http.Request) (int, string) {
	v.t.Helper()
	req.Header.Set("Accept-Language", v.language)
	r, err := v.client.Do(req)
	if err != nil {
		v.t.Fatal(err)
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	if err != nil {
		v.t.Fatal(err)
	}
	if policy := r.Header.Get("Content-Security-Policy"); !strings.HasPrefix(policy, "default-src 'none'") ||
		r.Header.Get("Referrer-Policy") != "no-referrer" || r.Header.Get("Cache-Control") != "no-store" {
		v.t.Errorf("headers: %v", r.Header)
	}
	return r.StatusCode, string(text)
}

func (v *visitor) open(address string) (int, string) {
	v.t.Helper()
	req, err := http.NewRequest(http.MethodGet, address, nil)
	if err != nil {
		v.t.Fatal(err)
	}
	return v.send(req)
}

func (v *visitor) post(path string, form ...string) (int, string) {
	v.t.Helper()
	values := url.Values{}
	for i := 0; i < len(form); i += 2 {
		values.Set(form[i], form[i+1])
	}
	req, err := http.NewRequest(http.MethodPost, v.base+path, strings.NewReader(values.Encode()))
	if err != nil {
		v.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return v.send(req)
}

var (
	hiddenPass = regexp.MustCompile(`name="p" value="([^"]+)"`)
	seedShown  = regexp.MustCompile(`class="seed">([A-Z2-7 ]+)<`)
)

// first is the first group of a pattern in a page.
func first(t *testing.T, pattern *regexp.Regexp, page string) string {
	t.Helper()
	found := pattern.FindStringSubmatch(page)
	if found == nil {
		t.Fatalf("no %s in\n%s", pattern, page)
	}
	return found[1]
}

// enrolLink makes a link for somebody.
func (w *world) enrolLink(person string, how ...string) string {
	w.t.Helper()
	var out apitype.Invitations
	w.do(http.MethodPost, "/factor-invitations", apitype.InvitationInput{Person: person,
		Replace: slices.Contains(how, "-replace")}, &out)
	return out.Items[0].Link
}

// People set up their second factor by themselves: with an invitation, or by their password alone while the lane does
// without. An invitation is good once, for its person, and only with the password.
func TestPeopleEnrolThemselves(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", "gangplank-and-tide", "Crew")
	w.account("v.vane", "weather-and-vane-1", "Crew")
	v := w.visitor("en")
	if status, page := v.open(v.base + "/"); status != 200 ||
		!strings.Contains(page, "Open the link of your invitation") {
		t.Errorf("without an invitation: %d %s", status, page)
	}
	out := w.wants(0, []string{"factor", "invite", "m.wade"}, "m.wade\n", "/enrol?t=", "good once")
	link := strings.TrimSpace(strings.Split(out, "\n")[1])
	status, page := v.open(link)
	if status != 200 || !strings.Contains(page, "Hello m.wade") || strings.Contains(page, "<script") {
		t.Fatalf("%d %s", status, page)
	}
	token := strings.SplitAfter(link, "?t=")[1]
	if status, page = v.post("/enrol", "t", token, "password", "wrong"); status != 403 || !strings.Contains(page,
		"password is wrong") || seedShown.MatchString(page) {
		t.Errorf("with a wrong password: %d %s", status, page)
	}
	status, page = v.post("/enrol", "t", token, "password", "gangplank-and-tide")
	seed := strings.ReplaceAll(first(t, seedShown, page), " ", "")
	if status != 200 || !strings.Contains(page, "<svg") || !strings.Contains(page, `href="otpauth://totp/`) {
		t.Errorf("%d %s", status, page)
	}
	pass := first(t, hiddenPass, page)
	if status, page = v.post("/confirm", "p", pass, "code", "000000"); status != 403 || !strings.Contains(page,
		"not the code") {
		t.Errorf("with a wrong code: %d %s", status, page)
	}
	code, err := factor.Code(seed, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	status, page = v.post("/confirm", "p", pass, "code", code[:3]+" "+code[3:])
	if status != 200 || strings.Count(page, "<li>") != 8 {
		t.Errorf("%d %s", status, page)
	}
	// It counts, and the invitation and the step before no more.
	if ready := w.wants(0, []string{"factor", "ready", "Crew"}, "m.wade"); !strings.Contains(ready, "ready") {
		t.Error(ready)
	}
	for _, again := range []func() (int, string){
		func() (int, string) { return v.open(link) },
		func() (int, string) { return v.post("/enrol", "t", token, "password", "gangplank-and-tide") },
		func() (int, string) { return v.post("/confirm", "p", pass, "code", code) },
	} {
		if status, page = again(); status != 410 || !strings.Contains(page, "was used") {
			t.Errorf("used again: %d %s", status, page)
		}
	}
	w.wants(0, []string{"audit", "list"}, "set up a second factor", "invited m.wade")
	// What was made up, is of another kind, of another service, or too late.
	box, err := seal.Open(w.dir + "/key")
	if err != nil {
		t.Fatal(err)
	}
	late := portal.Invitation{Store: "local", Name: "v.vane", Until: time.Now().Add(-time.Minute)}
	for token, says := range map[string]string{"": "invitation", "nonsense": "not complete", pass: "not complete",
		link: "not complete", token[:len(token)-4]: "not complete", late.Token(box): "is over",
		strings.Repeat("A", 9000): "not complete"} {
		if status, page = v.open(v.base + "/enrol?t=" + token); status != 410 {
			t.Errorf("%.40s: %d %s", token, status, page)
		}
		if status, page = v.post("/enrol", "t", token, "password", "weather-and-vane-1"); status != 410 ||
			!strings.Contains(page, says) {
			t.Errorf("%.40s: %d %s", token, status, page)
		}
	}
	// In grace the password alone lets somebody enrol who has none, in the language of the browser.
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "code", "-factor-until",
		time.Now().AddDate(0, 0, 5).Format(time.DateOnly), "-publish"}, "revision")
	german := w.visitor("de-AT,de;q=0.9,en;q=0.5")
	if _, page = german.open(v.base + "/"); !strings.Contains(page, `lang="de"`) ||
		!strings.Contains(page, "Passwort") {
		t.Error(page)
	}
	if status, page = v.post("/enrol", "name", "m.wade", "password", "gangplank-and-tide"); status != 403 ||
		!strings.Contains(page, "already") {
		t.Errorf("by a password alone a second factor is replaced: %d %s", status, page)
	}
	if status, page = v.post("/enrol", "name", "nobody", "password", "x"); status != 403 || !strings.Contains(page,
		"password is wrong") {
		t.Errorf("a stranger: %d %s", status, page)
	}
	status, page = german.post("/enrol", "name", "v.vane", "password", "weather-and-vane-1")
	if status != 200 {
		t.Fatalf("%d %s", status, page)
	}
	code, _ = factor.Code(strings.ReplaceAll(first(t, seedShown, page), " ", ""), time.Now())
	if status, page = german.post("/confirm", "p", first(t, hiddenPass, page), "code", code); status != 200 ||
		!strings.Contains(page, "Ersatzcodes") {
		t.Errorf("%d %s", status, page)
	}
	reply, err := w.ask(func(q *trial.Request) { q.User, q.Password = "v.vane", "weather-and-vane-1" })
	if err != nil || reply.Code != "Access-Challenge" {
		t.Errorf("who is enrolled is asked: %s, %v", reply.Code, err)
	}
	// An invitation adds a phone, or replaces one that was lost.
	link = w.enrolLink("m.wade", "-replace")
	_, page = v.post("/enrol", "t", strings.SplitAfter(link, "?t=")[1], "password", "gangplank-and-tide")
	code, _ = factor.Code(strings.ReplaceAll(first(t, seedShown, page), " ", ""), time.Now())
	if status, _ = v.post("/confirm", "p", first(t, hiddenPass, page), "code", code); status != 200 {
		t.Errorf("a lost phone is not replaced: %d", status)
	}
	// Whoever guesses is held up.
	slower := false
	for range 15 { // a password of one's own in between gives no more of them
		v.post("/enrol", "name", "m.wade", "password", "gangplank-and-tide")
		status, _ = v.post("/enrol", "name", "v.vane", "password", "guess")
		slower = slower || status == http.StatusTooManyRequests
	}
	if !slower {
		t.Error("fifteen guesses were all looked at")
	}
	w.wants(1, []string{"factor", "invite", "-group", "Nobody"}, "nobody of")
	w.wants(2, []string{"factor", "invite"}, "-group")
}

// In a browser: an operator invites who is without, and the pages that the person gets on a phone hold to the rules of
// accessibility and fit.
func TestConsoleInvitesPeople(t *testing.T) {
	w := lantern(t)
	for _, user := range []string{"s.lodge", "b.dahl"} {
		w.ask(func(q *trial.Request) {
			q.User, q.Password, q.Secret, q.From = user, "harbour-"+user, "gangway-and-bollard-99", must(
				"127.0.10.99",
			)
		})
	}
	w.attempts("user=b.dahl&verdict=admitted", 1)
	p := pageSteps{signedIn(t, w)}
	axe := axeScript(t)
	fine := func(what string) {
		t.Helper()
		if findings, err := p.Axe(axe); err != nil || len(findings) > 0 {
			t.Errorf("%s: %v\n%s", what, err, strings.Join(findings, "\n"))
		}
		overflows(t, p, what)
	}
	steps(t, p.open(w.app.URL+"/readiness"), p.see("Would be refused today"), p.click("Lantern Ferries"),
		p.see("b.dahl"), p.click("Invite"), p.see("Shown only here"))
	link, err := browser.Eval[string](p.Page, "document.querySelector('[data-secret]').innerText")
	if err != nil {
		t.Fatal(err)
	}
	steps(t, p.click("Save as a file"), p.open(link), p.see("Hello "))
	fine("the password")
	steps(
		t,
		p.fill("Password", "wrong"),
		p.click("Next"),
		p.see("password is wrong"),
		p.fill("Password", "harbour-b.dahl"),
		p.click("Next"),
		p.see("Approve sign-ins on your phone"),
		p.click("Or: codes from an authenticator app"),
		p.see("six digits"),
	)
	fine("the picture")
	seed, err := browser.Eval[string](p.Page, "document.querySelector('.seed').textContent")
	if err != nil {
		t.Fatal(err)
	}
	code, err := factor.Code(strings.ReplaceAll(seed, " ", ""), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	steps(t, p.fill("Code", code), p.click("Confirm"), p.see("It is done"))
	fine("the end")
	recovery, err := browser.Eval[string](p.Page, "document.querySelector('.codes li').textContent")
	if err != nil {
		t.Fatal(err)
	}
	steps(t, p.click("Your devices and recovery codes"), p.see("Sign in to look after your devices"))
	fine("signing in to the own devices")
	steps(t, p.fill("Name", "b.dahl"), p.fill("Password", "harbour-b.dahl"), p.fill("Code, or a recovery code",
		recovery), p.click("Next"), p.see("Makes codes"), p.see("7 are left"), p.unsee("Remove"))
	fine("the own devices")
	steps(t, p.click("Make new ones"), p.see("from now on"), p.click("Back to your devices"), p.see("8 are left"),
		p.click("Add a device"), p.see("Approve sign-ins on your phone"))
	steps(t, p.open(w.app.URL+"/readiness?group=Lantern+Ferries"), p.see("ready"), p.see("would be refused today"),
		p.click("Have a lane ask them ..."), p.choose("Lane", "Remote desktops"),
		p.fill("Admit people without until", time.Now().AddDate(0, 1, 0).Format(time.DateOnly)),
		p.click("Ask them in the draft"), p.see("and are admitted until"), p.click("Publish ..."), p.see("Publish"))
}
