package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// settings changes the settings for operators.
func (w *world) operatorSettings(change func(*apitype.OperatorSettings)) {
	w.t.Helper()
	var o apitype.OperatorSettings
	w.do(http.MethodGet, "/operator-settings", nil, &o)
	change(&o)
	w.do(http.MethodPut, "/operator-settings", o, nil, client.IfMatch(o.Tag))
}

// session signs in as a browser does, and returns a world that shows the cookie.
func (w *world) browserSession(in apitype.SignInInput) *world {
	w.t.Helper()
	status, cookies, text := w.signInRaw(in)
	if status != http.StatusOK || len(cookies) == 0 {
		w.t.Fatalf("signing in as %s: %d %s", in.Name, status, text)
	}
	return w.as(cookies[0].Value) // the same text is good as a bearer
}

func (w *world) signInRaw(in apitype.SignInInput) (int, []*http.Cookie, string) {
	w.t.Helper()
	body, err := json.Marshal(in)
	if err != nil {
		w.t.Fatal(err)
	}
	resp, err := http.Post(w.api.URL+"/api/v1/sign-in", "application/json", bytes.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<16))
	if err != nil {
		w.t.Fatal(err)
	}
	return resp.StatusCode, resp.Cookies(), string(text)
}

// The second factor of an operator: needed by a setting, nothing else allowed before, asked for from then on, for each
// code once; recovery codes; and an owner removes it.
func TestSecondFactorOfOperators(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.operator("e.marsh", "engineer")
	in := apitype.SignInInput{Name: "e.marsh", Password: "lantern-demo-2026"}
	before := w.browserSession(in)
	before.do(http.MethodGet, "/clients", nil, nil)
	w.operatorSettings(func(o *apitype.OperatorSettings) { o.SecondFactor = []string{"engineer"} })
	// a session from before counts for enrolling alone, and so does a new one
	for _, s := range []*world{before, w.browserSession(in)} {
		p := s.refused(http.StatusForbidden, http.MethodGet, "/clients", nil, "needs a second factor")
		if p.Code != "factor.needed" {
			t.Errorf("code %s", p.Code)
		}
		s.refused(http.StatusForbidden, http.MethodPost, "/tokens", apitype.TokenInput{Name: "way round"}, "")
	}
	status, _, text := w.signInRaw(apitype.SignInInput{Name: in.Name, Password: in.Password, TokenName: "way round"})
	if status != http.StatusForbidden || !strings.Contains(text, "enrol one first") {
		t.Errorf("a token without: %d %s", status, text)
	}
	s := w.browserSession(in)
	s.refused(
		http.StatusUnprocessableEntity,
		http.MethodPost,
		"/me/factor",
		apitype.OwnFactor{Password: "harbour-and-rope"},
		"present password is wrong",
	)
	var offer apitype.FactorOffer
	s.do(http.MethodPost, "/me/factor", apitype.OwnFactor{Password: in.Password}, &offer)
	w.refused(
		http.StatusNotFound,
		http.MethodPost,
		"/me/factor/"+offer.Factor.ID+"/confirm",
		apitype.FactorCode{Code: "123456"},
		"",
	) // somebody else cannot end it
	code := func(off time.Duration) string {
		c, err := factor.Code(offer.Seed, time.Now().Add(off))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	var codes apitype.FactorRecovery
	s.do(http.MethodPost, "/me/factor/"+offer.Factor.ID+"/confirm", apitype.FactorCode{Code: code(0)}, &codes)
	s.do(http.MethodGet, "/clients", nil, nil) // this session counts now
	before.refused(http.StatusForbidden, http.MethodGet, "/clients", nil, "needs a second factor")

	status, _, text = w.signInRaw(in)
	if status != http.StatusUnauthorized || !strings.Contains(text, "factor.missing") {
		t.Errorf("without a code: %d %s", status, text)
	}
	for _, wrong := range []string{"000000", code(0)} { // the second one was used when it was confirmed
		in.Code = wrong
		if status, _, text = w.signInRaw(in); status != http.StatusUnauthorized ||
			!strings.Contains(text, "factor.wrong") {
			t.Errorf("with %s: %d %s", wrong, status, text)
		}
	}
	if last := w.audit("who=e.marsh")[0]; last.Result != "refused" || !strings.Contains(last.Why, "second factor") {
		t.Errorf("a wrong code is recorded as %+v", last)
	}
	in.Code = code(30 * time.Second)
	w.browserSession(in).do(http.MethodGet, "/clients", nil, nil)
	if status, _, _ = w.signInRaw(in); status != http.StatusUnauthorized {
		t.Errorf("the same code again: %d", status)
	}
	in.Code = codes.Codes[0]
	w.browserSession(in)
	if status, _, _ = w.signInRaw(in); status != http.StatusUnauthorized {
		t.Errorf("the same recovery code again: %d", status)
	}
	// who helps people does not reach it
	help := w.as(w.operator("h.ward", "helpdesk"))
	help.refused(http.StatusNotFound, http.MethodDelete, "/factors/"+offer.Factor.ID, nil, "")
	w.wants(0, []string{"operator", "list"}, "e.marsh", "engineer", "yes")
	w.wants(0, []string{"operator", "drop-factor", "e.marsh"}, "no second factor any more")
	in.Code = ""
	w.browserSession(in).refused(http.StatusForbidden, http.MethodGet, "/clients", nil, "needs a second factor")
	w.wants(0, []string{"operator", "list"}, "needed")
	w.audits("kind=operator&q=factor", "removed the second factor of operator e.marsh")
	w.wants(0, []string{"operator", "settings", "-second-factor", "none"}, "needed by no role")
}

// The own password, browser sessions and their ends.
func TestSessionsOfOperators(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.operator("e.marsh", "engineer")
	in := apitype.SignInInput{Name: "e.marsh", Password: "lantern-demo-2026"}
	one, two := w.browserSession(in), w.browserSession(in)
	var list apitype.Page[apitype.OperatorSession]
	one.do(http.MethodGet, "/operator-sessions", nil, &list)
	if len(list.Items) != 2 || list.Items[0].Own == list.Items[1].Own || list.Items[0].From != "127.0.0.1" {
		t.Fatalf("%+v", list.Items)
	}
	one.refused(http.StatusUnprocessableEntity, http.MethodPut, "/me/password", apitype.OwnPassword{Present: "x",
		Next: "gangway-and-rope"}, "wrong")
	one.refused(
		http.StatusUnprocessableEntity,
		http.MethodPut,
		"/me/password",
		apitype.OwnPassword{Present: in.Password,
			Next: "short"},
		"10 characters",
	)
	one.do(http.MethodPut, "/me/password", apitype.OwnPassword{Present: in.Password, Next: "gangway-and-rope"}, nil)
	one.do(http.MethodGet, "/clients", nil, nil)
	two.refused(http.StatusUnauthorized, http.MethodGet, "/clients", nil, "")
	if status, _, _ := w.signInRaw(in); status != http.StatusUnauthorized {
		t.Errorf("with the old password: %d", status)
	}
	in.Password = "gangway-and-rope"
	three := w.browserSession(in)
	three.do(http.MethodGet, "/operator-sessions", nil, &list)
	help := w.as(w.operator("h.ward", "helpdesk"))
	help.refused(
		http.StatusNotFound,
		http.MethodDelete,
		"/operator-sessions/"+list.Items[0].ID,
		nil,
		"no such session",
	)
	for _, s := range list.Items {
		w.wants(0, []string{"operator", "end-session", s.ID}, "has ended")
	}
	for _, s := range []*world{one, three} {
		s.refused(http.StatusUnauthorized, http.MethodGet, "/clients", nil, "")
	}
	w.wants(0, []string{"operator", "settings", "-idle", "5m", "-last", "2h"}, "after 5m without use, and after 2h")
	w.wants(1, []string{"operator", "settings", "-idle", "3m"}, "out of range")
	w.wants(1, []string{"operator", "settings", "-idle", "3h"}, "before it could be idle")
	w.browserSession(in).do(http.MethodGet, "/operator-sessions", nil, &list)
	if s := list.Items[0]; s.Last == nil || (s.Last.Sub(s.Begun)-2*time.Hour).Abs() > time.Second ||
		s.Until.Sub(s.Used) > 5*time.Minute+time.Second {
		t.Errorf("%+v", s)
	}
}

// Two to publish what touches lanes: never one alone, never what was changed since, never one who may no more.
func TestFourEyes(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(1, []string{"operator", "settings", "-four-eyes", "on"}, "only one operator who may publish")
	other := w.as(w.operator("e.marsh", "engineer"))
	third := w.as(w.operator("e.third", "engineer"))
	w.wants(0, []string{"operator", "settings", "-four-eyes", "on"}, "a second engineer agrees")
	// what touches neither lanes nor passes goes as before
	w.wants(0, []string{"client", "change", "np-switch-1", "-tag", "floor=9", "-publish"}, "published as revision 2")
	edit := []string{"policy", "add", "Wired", "Guests", "-refuse", "-at", "1"}
	w.wants(0, edit)
	w.wants(1, []string{"draft", "publish"}, "a second operator has to agree", "Ask for it")
	other.refused(http.StatusConflict, http.MethodPost, "/draft/publish", apitype.PublishBody{}, "has to agree")
	w.wants(0, []string{"draft", "ask", "-note", "guests"}, "Asked.")
	w.wants(1, []string{"draft", "publish"}, "you have asked for this")
	w.wants(0, []string{"draft", "show"}, "o.brandt asks to publish this: guests")
	// somebody changes the draft between the asking and the answer
	w.wants(0, []string{"policy", "change", "Wired", "Guests", "-off"})
	other.refused(http.StatusConflict, http.MethodPost, "/draft/publish", apitype.PublishBody{}, "has to agree")
	w.wants(0, []string{"draft", "show"}, "but it was changed since")
	third.do(http.MethodPost, "/draft/ask", apitype.AskInput{Note: "as it is"}, nil)
	// who asked may not any more
	w.do(http.MethodPut, "/operators/e.third", apitype.RoleInput{Role: "auditor"}, nil)
	other.refused(
		http.StatusConflict,
		http.MethodPost,
		"/draft/publish",
		apitype.PublishBody{},
		"may not publish any more",
	)
	w.wants(0, []string{"draft", "ask"})
	var all sync.WaitGroup // two agree at once: one revision
	for range 2 {
		all.Go(func() {
			err := other.api.Do(t.Context(), http.MethodPost, "/draft/publish", apitype.PublishBody{}, nil)
			var p *apitype.Problem
			if err != nil && (!errors.As(err, &p) || p.Status != http.StatusConflict) {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if _, n := w.running(); n != 3 {
		t.Errorf("revision %d", n)
	}
	w.audits("kind=revision", "published revision 3, for which o.brandt asked", "e.marsh")
	// going back needs two as well
	w.wants(1, []string{"revision", "return", "1"}, "has to agree")
	w.wants(0, []string{"draft", "ask", "-return", "1"})
	other.refused(http.StatusConflict, http.MethodPost, "/revisions/2/return", apitype.PublishBody{}, "has to agree")
	other.do(http.MethodPost, "/revisions/1/return", apitype.PublishBody{}, nil)
	if _, n := w.running(); n != 4 {
		t.Errorf("revision %d after the return", n)
	}
}

// present lists who is where, as far as an operator sees it.
func (w *world) present() []apitype.Presence {
	w.t.Helper()
	var page apitype.PresencePage
	w.do(http.MethodGet, "/presence", nil, &page)
	if page.Total != len(page.Items) {
		w.t.Errorf("of %d in all %d are listed", page.Total, len(page.Items))
	}
	return page.Items
}

// A role that is limited to the clients of one site sees, asks and changes nothing else.
func TestLimitedToClients(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.do(
		http.MethodPost,
		"/clients?publish=true",
		apitype.ClientInput{ClientFields: apitype.ClientFields{Name: "sp-switch-1",
			Enabled: true, Addresses: []string{"192.0.2.77"}, MessageAuthenticator: "require",
			Tags: map[string]string{"site": "south-pier"}},
			Secret: secret},
		nil,
	)
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start", "NAS-IP-Address=192.0.2.11", "Framed-IP-Address=198.51.100.9")
	id := w.openSessions("").Items[0].ID
	attempt := w.attempts("", 1)[0].ID
	token := w.operator("e.marsh", "engineer")
	limited := w.as(token)
	w.wants(
		0,
		[]string{"operator", "change", "e.marsh", "-clients", "site=south-pier"},
		"for clients with site=south-pier",
	)
	w.wants(1, []string{"operator", "change", "o.brandt", "-clients", "site=south-pier"}, "an owner is not limited")
	var clients apitype.Page[apitype.Client]
	limited.do(http.MethodGet, "/clients", nil, &clients)
	if len(clients.Items) != 1 || clients.Items[0].Name != "sp-switch-1" {
		t.Errorf("%+v", clients.Items)
	}
	limited.refused(http.StatusNotFound, http.MethodGet, "/clients/np-switch-1", nil, "")
	if n := len(limited.openSessions("").Items); n != 0 {
		t.Errorf("%d sessions", n)
	}
	if n := len(limited.recorded()); n != 0 {
		t.Errorf("%d attempts", n)
	}
	limited.refused(http.StatusForbidden, http.MethodGet, "/attempts/"+attempt, nil, "limited to clients")
	limited.refused(http.StatusForbidden, http.MethodGet, "/sessions/"+id, nil, "limited to clients")
	limited.refused(
		http.StatusForbidden,
		http.MethodPost,
		"/sessions/"+id+"/ask",
		apitype.SessionAsk{Action: "disconnect"},
		"limited to clients",
	)
	limited.refused(http.StatusForbidden, http.MethodPost, "/realms", apitype.RealmFields{Name: "mine"}, "limited")
	w.do(http.MethodPost, "/presence/sightings", apitype.SightingFields{Kind: "signed-in", Who: "l.orme",
		Address: "198.51.100.10"}, nil)
	w.eventually("both are there", func() bool { return len(w.present()) == 2 })
	if list := limited.present(); len(list) != 0 {
		t.Errorf("of clients elsewhere it sees %+v", list)
	}
	near := w.as(w.operator("h.vane", "engineer"))
	w.wants(0, []string{"operator", "change", "h.vane", "-clients", "site=north-pier"}, "")
	if list := near.present(); len(list) != 1 || list[0].Who != "k.nance" || list[0].Address != "198.51.100.9" {
		t.Errorf("of its own clients it sees %+v", list)
	}
	near.do(http.MethodGet, "/presence/who?address=198.51.100.9", nil, nil)
	past := "&at=" + url.QueryEscape(time.Now().Add(-time.Minute).Format(time.RFC3339))
	for _, who := range []string{"198.51.100.10", "198.51.100.11", "198.51.100.9" + past} {
		near.refused(http.StatusForbidden, http.MethodGet, "/presence/who?address="+who, nil, "limited to clients")
	}
	for _, path := range []string{"/file", "/presence/state", "/presence/devices", "/presence/sightings",
		"/presence/who?address=192.0.2.1", "/presence/people/k.nance"} {
		limited.refused(http.StatusForbidden, http.MethodGet, path, nil, "limited")
	}
	limited.refused(http.StatusForbidden, http.MethodPost, "/device-kinds/fits", apitype.DeviceKindFields{
		MACs: []string{"02"}, Fingerprints: []string{}, VendorClasses: []string{}, Hosts: []string{}}, "limited")
	limited.try(http.MethodDelete, "/clients/np-switch-1", nil, "none of them")
	fields := apitype.ClientFields{
		Name:                 "sp-switch-1",
		Enabled:              true,
		MessageAuthenticator: "require",
		Addresses:            []string{"192.0.2.78"},
		Tags:                 map[string]string{"site": "north-pier"},
	}
	limited.try(http.MethodPut, "/clients/sp-switch-1", apitype.ClientInput{ClientFields: fields}, "none of them")
	fields.Tags["site"] = "south-pier"
	// an address, or a longer or shorter prefix, of a client elsewhere would take its requests
	for _, address := range []string{"127.0.0.1", "127.0.0.0/8", "::ffff:127.0.0.1", "0.0.0.0/0"} {
		fields.Addresses = []string{"192.0.2.78", address}
		limited.try(http.MethodPut, "/clients/sp-switch-1", apitype.ClientInput{ClientFields: fields}, "none of them")
		fields.Name = "sp-switch-2"
		limited.try(http.MethodPost, "/clients", apitype.ClientInput{ClientFields: fields, Secret: secret},
			"none of them")
		fields.Name = "sp-switch-1"
	}
	fields.Addresses = []string{"192.0.2.78"}
	limited.refused(http.StatusForbidden, http.MethodPost, "/trials",
		apitype.TrialInput{Client: "np-switch-1", Method: "pap", User: "k.nance", Password: "gangway-and-rope"},
		"none of them")
	limited.refused(http.StatusForbidden, http.MethodGet, "/rehearsal", nil, "limited")
	if n := limited.openSessions("").Open; n != 0 {
		t.Errorf("%d open sessions are counted", n)
	}
	limited.do(
		http.MethodPut,
		"/clients/sp-switch-1",
		apitype.ClientInput{ClientFields: fields},
		nil,
		client.IfMatch("*"),
	)
	// what others have in the draft is not published along
	w.wants(0, []string{"policy", "add", "Wired", "Guests", "-refuse", "-at", "1"})
	limited.refused(http.StatusForbidden, http.MethodPost, "/draft/publish", apitype.PublishBody{}, "is changed too")
	w.wants(0, []string{"policy", "remove", "Wired", "Guests"})
	limited.do(http.MethodPost, "/draft/publish", apitype.PublishBody{}, nil)
}

// try makes a call over whatever is there, which has to be refused.
func (w *world) try(method, path string, in any, part string) {
	w.t.Helper()
	err := w.api.Do(w.t.Context(), method, path, in, nil, client.IfMatch("*"))
	if err == nil || !strings.Contains(err.Error(), part) {
		w.t.Errorf("%s %s: %v, want %q", method, path, err, part)
	}
}

// Whoever has the files of a stopped service makes an owner; whoever has not, does not.
func TestResetOwner(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.operator("e.marsh", "engineer")
	bin := filepath.Join(binaries, "tollgated")
	run := func(args ...string) string {
		out, _ := exec.Command(bin, append([]string{"-data", w.dir}, args...)...).CombinedOutput()
		return string(out)
	}
	if out := run("-reset-owner", "e.marsh"); !strings.Contains(out, "stop that first") {
		t.Errorf("while it runs: %s", out)
	}
	w.app.Stop()
	if out := run("-reset-owner", "two words"); !strings.Contains(out, "without spaces") {
		t.Errorf("a name that is none: %s", out)
	}
	out := run("-reset-owner", "e.marsh")
	password := regexp.MustCompile(`shown only here: (\S+)`).FindStringSubmatch(out)
	if password == nil {
		t.Fatal(out)
	}
	w.boot()
	s := w.browserSession(apitype.SignInInput{Name: "e.marsh", Password: password[1]})
	s.do(http.MethodGet, "/operator-settings", nil, nil)
	if owners := w.owners(); len(owners) != 2 {
		t.Errorf("owners: %v", owners)
	}
	w.audits("kind=operator", "made e.marsh an owner with a new password", "host")
	w.wants(0, []string{"audit", "verify"}, "intact")
}

// Members of a group of a directory are operators, with the role of the group for as long as they are in it; whoever
// is disabled or locked is not, and guesses are counted as everywhere.
func TestOperatorsOfADirectory(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.directory()
	people := lab.People()
	one, locked, crew := people[3], people[22], people[4]
	in := func(p lab.Person, password string) apitype.SignInInput {
		return apitype.SignInInput{Name: p.User, Password: password}
	}
	w.shore(apitype.DirectoryInput{BindPassword: lab.ServicePassword, DirectoryFields: apitype.DirectoryFields{
		Name: "LANTERN", Kind: "active-directory", Servers: []string{w.ldaps}, TLS: "ldaps", CA: w.ca.PEM,
		BindName: lab.ServiceName + "@" + lab.Domain, TimeoutMillis: 3000, CacheSeconds: new(60),
		GuardAfter: 3}}, "always")
	w.wants(1, []string{"operator", "settings", "-group", "ELSEWHERE:Network Team=engineer"}, "no directory")
	w.wants(2, []string{"operator", "settings", "-group", "Network Team=engineer"}, "DIRECTORY:GROUP=ROLE")
	if status, _, _ := w.signInRaw(in(one, "harbour-"+one.User)); status != http.StatusUnauthorized {
		t.Errorf("before the group has a role: %d", status)
	}
	w.wants(0, []string{"operator", "settings", "-group", "LANTERN:Network Team=engineer", "-group",
		"LANTERN:Port Operations=helpdesk"}, "Network Team of LANTERN: engineer")
	s := w.browserSession(in(one, "harbour-"+one.User))
	var about apitype.About
	s.do(http.MethodGet, "/about", nil, &about)
	if about.Role != "engineer" || !about.Elsewhere {
		t.Errorf("%+v", about)
	}
	w.audits("who="+one.User+"&result=done", "signed in", one.User)
	for what, attempt := range map[string]apitype.SignInInput{"a wrong password": in(one, "harbour-wrong"),
		"a locked account": in(locked, "harbour-"+locked.User), "nobody": {Name: "n.nobody", Password: "harbour-x"},
		"no password": {Name: one.User}} {
		if status, _, text := w.signInRaw(attempt); status == http.StatusOK {
			t.Errorf("%s: %s", what, text)
		}
	}
	if status, _, text := w.signInRaw(in(crew, "harbour-"+crew.User)); status != http.StatusForbidden ||
		!strings.Contains(text, "none of the groups") {
		t.Errorf("without a group: %d %s", status, text)
	}
	// another group gives another role at the next sign-in; without one, what is there ends
	w.wants(0, []string{"operator", "settings", "-group", "LANTERN:Network Team=auditor"})
	w.browserSession(in(one, "harbour-"+one.User)).refused(http.StatusForbidden, http.MethodPost, "/draft/publish",
		apitype.PublishBody{}, "auditor")
	w.wants(0, []string{"operator", "settings", "-group", "LANTERN:Port Operations=helpdesk"})
	if status, _, _ := w.signInRaw(in(one, "harbour-"+one.User)); status != http.StatusForbidden {
		t.Errorf("after the group lost its role: %d", status)
	}
	s.refused(http.StatusUnauthorized, http.MethodGet, "/clients", nil, "")
	if last := w.audit("who=" + one.User)[0]; last.Result != "refused" ||
		!strings.Contains(last.Why, "none of the groups") {
		t.Errorf("who has no role any more is recorded as %+v", last)
	}
	// a name that is kept here is never looked for elsewhere
	w.operator(crew.User, "auditor")
	if status, _, _ := w.signInRaw(in(crew, "harbour-"+crew.User)); status != http.StatusUnauthorized {
		t.Errorf("by the password of another person of that name: %d", status)
	}
}
