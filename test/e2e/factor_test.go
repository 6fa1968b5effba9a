package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/tacacs"
)

// authenticator is one whose clock runs ahead with each code, so that nobody has to wait for the next.
type authenticator struct {
	t    *testing.T
	id   string
	seed string
	at   time.Time
}

func (p *authenticator) next() string {
	p.t.Helper()
	if p.at = p.at.Add(30 * time.Second); p.at.Before(time.Now()) {
		p.at = time.Now()
	}
	code, err := factor.Code(p.seed, p.at)
	if err != nil {
		p.t.Fatal(err)
	}
	return code
}

// enrol gives somebody a phone, through the command line.
func (w *world) enrol(person string) (*authenticator, []string) {
	w.t.Helper()
	var offer apitype.FactorOffer
	if err := json.Unmarshal([]byte(w.wants(0, []string{"factor", "enrol", person, "-label", "phone of " + person,
		"-json"}, "otpauth://totp/")), &offer); err != nil {
		w.t.Fatal(err)
	}
	p := &authenticator{
		t:    w.t.(*testing.T),
		id:   offer.Factor.ID,
		seed: offer.Seed,
		at:   time.Now().Add(-60 * time.Second),
	}
	w.wants(1, []string{"factor", "confirm", p.id, "000000"}, "not the code that the device should show")
	out := w.wants(0, []string{"factor", "confirm", p.id, p.next()}, "counts from now on")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	return p, strings.Fields(strings.Join(lines[2:], " "))
}

// asked lists the prompts of a trial.
func asked(r results.GearReply) string {
	var out []string
	for _, x := range r.Rounds {
		if word, prompt, ok := strings.Cut(x.Text, " "); ok && x.From == "server" &&
			strings.HasPrefix(word, "GET") {
			out = append(out, prompt)
		}
	}
	return strings.Join(out, " ")
}

func TestSecondFactorOnGear(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.wants(1, []string{"lane", "change", "Gear", "-second-factor", "code"}, "cannot carry a one-time code",
		"methods[1]")
	w.wants(1, []string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "fingerprint"},
		"is not a second factor")
	w.wants(
		1,
		[]string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "code", "-factor-rest", "9999"},
		"out of range",
	)
	w.wants(
		0,
		[]string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "code", "-publish"},
		"revision",
	)
	w.wants(0, []string{"lane", "show", "Gear"}, "one-time code")
	w.wants(1, []string{"factor", "enrol", "nobody", "-later"}, "nobody", "not found in local")
	ann, recovery := w.enrol("ann")
	if len(recovery) != 8 {
		t.Fatalf("recovery codes: %q", recovery)
	}
	g := w.device(true)
	login := func(code, status string) results.GearReply {
		t.Helper()
		return w.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor", Code: code,
			Remote: "192.0.2.7"}, status)
	}
	reason := func(code string) apitype.AttemptDetail {
		t.Helper()
		return w.road(w.attempts("reason="+code, 1)[0].ID)
	}
	code := ann.next()
	if r := login(code, "PASS"); asked(r) != `"Password: " "One-time code: "` {
		t.Errorf("the device was asked %s", asked(r))
	}
	login(code, "FAIL")
	if a := reason("factor.code-used"); a.Trace.Stations[5].Key != "second-factor" ||
		a.Trace.Stations[5].State != "decided" || a.Trace.Stations[6].State != "not-reached" {
		t.Errorf("the road of a code that was used: %+v", a.Trace.Stations)
	}
	login("123123", "FAIL")
	login("", "FAIL")
	reason("factor.code-wrong")
	reason("factor.code-missing")
	// A wrong password is asked for a code like a right one, and does not use it up.
	code = ann.next()
	if r := w.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: "rope", Code: code},
		"FAIL"); asked(r) != `"Password: " "One-time code: "` {
		t.Errorf("with a wrong password the device was asked %s", asked(r))
	}
	login(code, "PASS")
	// PAP carries it behind the password.
	pap := func(code, status string) {
		t.Helper()
		w.asks(g, trial.GearAsk{Ask: "login", Method: "pap", User: "ann", Password: "rope-and-anchor", Code: code},
			status)
	}
	code = ann.next()
	pap(code, "PASS")
	pap(code, "FAIL")
	pap("", "FAIL")
	pap(recovery[5], "PASS")
	pap(recovery[5], "FAIL")
	if n := len(w.attempts("reason=password.wrong", 2)); n != 2 {
		t.Errorf("a recovery code that is gone is a part of the password, but %d passwords were wrong", n)
	}
	login(recovery[0], "PASS")
	// Who has no phone is told, once the password is right.
	if r := w.asks(g, trial.GearAsk{Ask: "login", User: "lou", Password: "look-and-see-1", Code: "123456"},
		"FAIL"); !strings.Contains(r.Message, "no second factor yet") {
		t.Errorf("lou reads %q", r.Message)
	}
	if a := reason("factor.not-enrolled"); !strings.Contains(a.Trace.Remedy, "Enrol Person lou") {
		t.Errorf("the remedy is %q", a.Trace.Remedy)
	}
	// Commands are about somebody who signed in: nothing is asked again.
	w.asks(g, trial.GearAsk{Ask: "command", User: "ann", Command: "show version"}, "PASS_ADD")
	w.asks(g, trial.GearAsk{Ask: "shell", User: "ann"}, "PASS_ADD")
	w.asks(g, trial.GearAsk{Ask: "enable", User: "ann", Password: "rope-and-anchor", Code: ann.next(), Level: 15},
		"PASS")
	w.asks(g, trial.GearAsk{Ask: "password", User: "ann", Password: "rope-and-anchor", Code: "222222",
		New: "a-new-rope-2026"}, "FAIL")
	if r := w.asks(g, trial.GearAsk{Ask: "password", User: "ann", Password: "rope-and-anchor", Code: ann.next(),
		New: "a-new-rope-2026"}, "PASS"); r.Message != "The password was changed." {
		t.Errorf("a change says %q", r.Message)
	}
	w.wants(0, []string{"factor", "list"}, "phone of ann", "hh-router-1", "in use")
	w.wants(0, []string{"factor", "recovery", "ann"}, "shown only here")
	if out := w.wants(0, []string{"factor", "show", ann.id}, "8 codes left", "6 digits every 30 s"); strings.Contains(
		out,
		ann.seed,
	) {
		t.Error("the seed is shown again")
	}
	w.wants(0, []string{"factor", "remove", ann.id}, "is refused wherever")
	w.wants(1, []string{"factor", "show", ann.id}, "no such second factor")
}

// Too many wrong codes lock one person, and nobody else; an operator releases.
func TestWrongCodesLockThePerson(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.wants(0, []string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "code", "-reject-delay", "0",
		"-publish"}, "revision")
	ann, _ := w.enrol("ann")
	lou, _ := w.enrol("lou")
	g := w.device(true)
	ask := func(user, password, code, status string) results.GearReply {
		t.Helper()
		return w.asks(g, trial.GearAsk{Ask: "login", User: user, Password: password, Code: code}, status)
	}
	for range 5 {
		ask("ann", "rope-and-anchor", "000000", "FAIL")
	}
	code := ann.next()
	if r := ask("ann", "rope-and-anchor", code, "FAIL"); !strings.Contains(r.Message, "Too many wrong codes") {
		t.Errorf("ann reads %q", r.Message)
	}
	ask("lou", "look-and-see-1", lou.next(), "PASS")
	w.attempts("reason=factor.locked", 1)
	w.wants(0, []string{"factor", "list", "ann"}, "too many wrong codes")
	g.Close()
	w.app.Stop()
	w.boot() // a lock that was told is kept
	g = w.device(true)
	ask("ann", "rope-and-anchor", code, "FAIL")
	w.wants(0, []string{"factor", "release", "ann"}, "accepted again")
	ask("ann", "rope-and-anchor", code, "PASS")
	// Somebody who does not know the password uses up none of the tries.
	for range 6 {
		ask("ann", "guessing", "000000", "FAIL")
	}
	ask("ann", "rope-and-anchor", ann.next(), "PASS")
}

// A lane may let people be for a while, on the same client and from the same place.
func TestACodeIsNotAskedForAgain(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.wants(0, []string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "code", "-factor-rest", "10",
		"-publish"}, "revision")
	ann, _ := w.enrol("ann")
	g := w.device(true)
	ask := func(what, remote, code, status, prompts string) {
		t.Helper()
		r := w.asks(
			g,
			trial.GearAsk{Ask: what, User: "ann", Password: "rope-and-anchor", Code: code, Remote: remote,
				Level: 15},
			status,
		)
		if got := asked(r); got != prompts {
			t.Errorf("%s from %s was asked %s", what, remote, got)
		}
	}
	both, one := `"Password: " "One-time code: "`, `"Password: "`
	ask("login", "192.0.2.7", ann.next(), "PASS", both)
	ask("login", "192.0.2.7", "", "PASS", one)
	ask("enable", "192.0.2.7", "", "PASS", one)
	ask("login", "192.0.2.8", "", "FAIL", both)
	ask("login", "", "", "FAIL", both)
	w.asks(g, trial.GearAsk{Ask: "login", Method: "pap", User: "ann", Password: "rope-and-anchor",
		Remote: "192.0.2.7"}, "PASS")
	if a := w.road(w.attempts("verdict=admitted", 3)[0].ID); !strings.Contains(a.Trace.Stations[5].Found,
		"ago on hh-router-1, from 192.0.2.7") {
		t.Errorf("the road says %+v", a.Trace.Stations[5])
	}
	w.wants(0, []string{"factor", "remove", ann.id}, "removed")
	ask("login", "192.0.2.7", "", "FAIL", both)
}

// Over RADIUS the code comes behind the password; what the lane would do has a dry run, is expected and rehearsed.
func TestSecondFactorOverRADIUS(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", "gangplank-and-tide", "Crew")
	sign := func(password string, admitted bool) {
		t.Helper()
		if reply, err := w.ask(func(q *trial.Request) { q.User, q.Password = "m.wade", password }); err != nil ||
			reply.Accepted != admitted {
			t.Errorf("with %q: %+v %v", password, reply, err)
		}
	}
	sign("gangplank-and-tide", true)
	w.attempts("user=m.wade&verdict=admitted", 1)
	w.do(http.MethodPost, "/expectations", apitype.ExpectationFields{Name: "Wade at the counter", Sent: "m.wade",
		Client: "np-switch-1", Method: "pap", Attributes: []config.Attribute{{Name: "NAS-Port-Type",
			Value: "Ethernet"}}, Admitted: true}, nil)
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "code"}, "draft")
	w.wants(0, []string{"draft", "rehearse"}, "factor.not-enrolled")
	w.wants(1, []string{"draft", "publish", "-note", "codes"}, "Wade at the counter", "has no second factor")
	wade, _ := w.enrol("m.wade")
	w.wants(0, []string{"draft", "rehearse"}, "0 of 1 attempts") // who has one is supposed to give the code
	w.wants(0, []string{"lane", "change", "Wired", "-factor-ask", "append"}, "draft")
	w.wants(0, []string{"draft", "rehearse"}, "factor.code-missing") // but the client does not ask for it
	w.wants(0, []string{"draft", "publish", "-note", "codes"}, "revision")
	sign("gangplank-and-tide", false)
	sign("gangplank-and-tide"+wade.next(), true)
	sign("wrong"+wade.next(), false)
	a := w.cameTo("password.wrong")
	if !strings.Contains(a.Facts.CredentialDetail, "taken for the one-time code") {
		t.Errorf("a wrong password and a code: %s %q", a.Reason, a.Facts.CredentialDetail)
	}
}

// Hostile codes get the right answer, and a device that is not finished hurts nobody.
func TestHostileCodes(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.gear()
	w.wants(0, []string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "code", "-reject-delay", "0",
		"-publish"}, "revision")
	ann, _ := w.enrol("ann")
	g := w.device(true)
	for _, code := range []string{strings.Repeat("9", 255), strings.Repeat("1 ", 100), "\x00\x01\x02", "١٢٣٤٥٦",
		"12345\n"} {
		w.do(http.MethodPost, "/factors/"+ann.id+"/release", nil, nil)
		w.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor", Code: code}, "FAIL")
	}
	if _, err := g.Try(context.Background(), trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor",
		Code: strings.Repeat("9", 300)}); err != nil {
		t.Errorf("a code of 300 octets: %v", err)
	}
	// Somebody who leaves at the prompt of the code is recorded as having left.
	prompts := []string{}
	g.Authenticate(context.Background(), tacacs.Start{Action: tacacs.Login, Kind: tacacs.ASCII,
		Service: tacacs.ServiceLogin, User: []byte("ann")}, func(a tacacs.AuthenReply) (string, bool) {
		prompts = append(prompts, string(a.Message))
		return "rope-and-anchor", len(prompts) == 2
	})
	if !slices.Equal(prompts, []string{"Password: ", "One-time code: "}) {
		t.Errorf("asked %q", prompts)
	}
	w.attempts("reason=dialogue.aborted", 1)
	w.do(http.MethodPost, "/factors/"+ann.id+"/release", nil, nil)
	w.asks(g, trial.GearAsk{Ask: "login", User: "ann", Password: "rope-and-anchor", Code: ann.next()}, "PASS")
	w.refused(http.StatusUnprocessableEntity, http.MethodPost, "/factors", apitype.FactorInput{Person: "ann",
		Seed: "not base32!"}, "seed")
	w.refused(http.StatusUnprocessableEntity, http.MethodPost, "/factors", apitype.FactorInput{Person: "ann",
		Store: "nowhere"}, "store")
	w.refused(
		http.StatusUnprocessableEntity,
		http.MethodPost,
		"/factors",
		apitype.FactorInput{Person: " "},
		"person",
	)
	w.refused(http.StatusNotFound, http.MethodPost, "/factors/nothing/confirm", apitype.FactorCode{Code: "1"})
}

// cameTo waits until the newest attempt came to a reason.
func (w *world) cameTo(reason string) (a apitype.AttemptDetail) {
	w.t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		var page apitype.Page[apitype.Attempt]
		if w.do(http.MethodGet, "/attempts?limit=1", nil, &page); len(page.Items) > 0 {
			if a = w.road(page.Items[0].ID); a.Reason == reason {
				return a
			}
		}
	}
	w.t.Errorf("recorded as %s, wanted %s", a.Reason, reason)
	return a
}

// newestOf is the newest attempt of somebody, once nothing has come for a moment.
func (w *world) newestOf(user string) apitype.AttemptDetail {
	w.t.Helper()
	time.Sleep(300 * time.Millisecond)
	return w.road(w.attempts("user="+user, 1)[0].ID)
}

// A client that sends the password alone is asked for the code by Access-Challenge, and a wrong password looks the same
// until the end. An answer is of its own question, and there is one try.
func TestACodeIsAskedForByChallenge(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	const password = "gangplank-and-tide"
	w.account("m.wade", password, "Crew")
	w.wants(
		1,
		[]string{"lane", "change", "Wired", "-second-factor", "code", "-factor-ask", "shouting"},
		"factor.ask",
	)
	w.wants(
		1,
		[]string{"lane", "change", "Wired", "-second-factor", "code", "-factor-pass", "none such"},
		"factor.pass",
	)
	w.wants(1, []string{"lane", "change", "Wired", "-second-factor", "code", "-factor-when", "group ist Crew"},
		"factor.when", "column")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "code", "-factor-text", "Code of your phone:",
		"-reject-delay", "0", "-publish"}, "revision")
	w.wants(
		0,
		[]string{"lane", "show", "Wired"},
		"behind the password or asked for by challenge",
		"one are refused",
	)
	wade, recovery := w.enrol("m.wade")
	sign := func(user, password, code string, more ...results.Attribute) results.Reply {
		t.Helper()
		reply, err := w.ask(func(q *trial.Request) {
			q.User, q.Password, q.Code = user, password, code
			q.Attributes = append(q.Attributes, more...)
		})
		if err != nil {
			t.Fatal(err)
		}
		return reply
	}
	of := func(r results.Reply, name string) string {
		for _, a := range r.Attributes {
			if a.Name == name {
				return a.Value
			}
		}
		return ""
	}
	wants := func(r results.Reply, accepted bool, packets int, reason string) {
		t.Helper()
		if r.Accepted != accepted || r.Packets != packets {
			t.Errorf("%s after %d packets: %+v", r.Code, r.Packets, r.Attributes)
		}
		if reason != "" {
			w.cameTo(reason)
		}
	}
	if r := sign("m.wade", password, ""); r.Code != "Access-Challenge" || of(r, "Reply-Message") !=
		"Code of your phone:" || len(of(r, "State")) != 34 {
		t.Errorf("asked by %s, %+v", r.Code, r.Attributes)
	}
	wants(sign("m.wade", password, wade.next()), true, 2, "")
	if a := w.cameTo("ok"); a.Facts.Factor.By != "code" || a.Verdict != "admitted" {
		t.Errorf("recorded: %+v", a.Facts.Factor)
	}
	code := wade.next()
	wants(sign("m.wade", "wrong", code), false, 2, "password.wrong") // and the code is not looked at
	wants(sign("nobody", "wrong", code), false, 2, "person.unknown")
	wants(sign("m.wade", password, code), true, 2, "")
	wants(sign("m.wade", password, code), false, 2, "factor.code-used")
	wants(sign("m.wade", password, "000000"), false, 2, "factor.code-wrong")
	wants(sign("m.wade", password, recovery[0]), true, 2, "")
	wants(sign("m.wade", password+wade.next(), ""), true, 1, "") // behind the password, as before
	// The answer of one question does not fit another person, or a question that is over.
	r := sign("m.wade", password, "")
	state := results.Attribute{Name: "State", Value: of(r, "State")}
	code = wade.next()
	wants(sign("nobody", code, "", state), false, 1, "factor.mixed")
	wants(
		sign("m.wade", code, "", state, results.Attribute{Name: "Calling-Station-Id", Value: "02-00-5E-00-00-02"}),
		false,
		1,
		"factor.mixed",
	)
	wants(sign("m.wade", code, "", state), true, 1, "")
	code = wade.next()
	wants(sign("m.wade", code, "", state), false, 1, "factor.lost")
	r = sign("m.wade", password, "")
	w.app.Stop()
	w.boot()
	wants(
		sign("m.wade", code, "", results.Attribute{Name: "State", Value: of(r, "State")}),
		false,
		1,
		"factor.lost",
	)
	// Two at once for one person: one code is good for one of them.
	both := make(chan bool)
	for range 2 {
		go func() {
			reply, _ := w.ask(func(q *trial.Request) { q.User, q.Password, q.Code = "m.wade", password, code })
			both <- reply.Accepted
		}()
	}
	if one, other := <-both, <-both; one == other {
		t.Errorf("two sign-ins with one code: both %v", one)
	}
	// Always by challenge: a password may end in digits.
	w.wants(0, []string{"lane", "change", "Wired", "-factor-ask", "challenge", "-publish"}, "revision")
	code = wade.next()
	wants(sign("m.wade", password+code, "000000"), false, 2, "password.wrong")
	wants(sign("m.wade", password, code), true, 2, "")
	w.wants(0, []string{"lane", "change", "Wired", "-factor-ask", "append", "-publish"}, "revision")
	wants(sign("m.wade", password, "000000"), false, 1, "factor.code-missing")
}

// Who is asked, and what becomes of people who have no second factor yet: they are let in for a while and reminded, or
// get a pass of their own, or are refused.
func TestPeopleWithoutASecondFactor(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", "gangplank-and-tide", "Crew")
	w.account("v.vane", "weather-and-vane-1", "Crew", "Contractors")
	sign := func(user, password, verdict, reads string) {
		t.Helper()
		reply, err := w.ask(func(q *trial.Request) { q.User, q.Password = user, password })
		if err != nil || reply.Code != verdict {
			t.Errorf("%s: %s, %v", user, reply.Code, err)
		}
		text := ""
		for _, a := range reply.Attributes {
			if a.Name == "Reply-Message" {
				text = a.Value
			}
		}
		if !strings.Contains(text, reads) || reads == "" && text != "" {
			t.Errorf("%s reads %q, not %q", user, text, reads)
		}
	}
	w.wants(0, []string{"pass", "add", "enrol only", "-vlan", "66", "-publish"}, "revision")
	until := time.Now().AddDate(0, 0, 10).Format(time.DateOnly)
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "code", "-factor-when", "group is Contractors",
		"-factor-until", until, "-factor-pass", "enrol only", "-publish"}, "revision")
	w.wants(0, []string{"lane", "show", "Wired"}, "Contractors; people", "admitted until "+until,
		"given pass enrol only")
	sign("m.wade", "gangplank-and-tide", "Access-Accept", "") // is no contractor
	sign("v.vane", "weather-and-vane-1", "Access-Accept", "until "+until+" (10 days left)")
	if a := w.newestOf("v.vane"); a.Pass == "enrol only" || a.Facts.Factor == nil ||
		a.Facts.Factor.Outcome != "factor.not-enrolled" || !strings.Contains(a.Trace.Stations[5].Found, "in 10 days") {
		t.Errorf("in grace: pass %s, %+v, %+v", a.Pass, a.Facts.Factor, a.Trace.Stations[5])
	}
	sign("v.vane", "wrong", "Access-Challenge", "One-time code:")
	w.wants(0, []string{"lane", "change", "Wired", "-factor-until", "2026-01-01", "-publish"}, "revision")
	sign("v.vane", "weather-and-vane-1", "Access-Accept", "reach only what is needed")
	if a := w.newestOf("v.vane"); a.Pass != "enrol only" || a.VLAN != "66" {
		t.Errorf("afterwards: pass %s, VLAN %s", a.Pass, a.VLAN)
	}
	w.wants(1, []string{"pass", "remove", "enrol only", "-publish"}, "enrol only")
	w.wants(0, []string{"draft", "discard"})
	vane, _ := w.enrol("v.vane")
	sign("v.vane", "weather-and-vane-1", "Access-Challenge", "One-time code:")
	sign("v.vane", "weather-and-vane-1"+vane.next(), "Access-Accept", "")
	if a := w.newestOf("v.vane"); a.Pass == "enrol only" {
		t.Error("whoever has a second factor gets the pass of those who have none")
	}
	w.wants(0, []string{"factor", "remove", vane.id}, "removed")
	w.wants(0, []string{"lane", "change", "Wired", "-factor-pass", "none", "-publish"}, "revision")
	sign("v.vane", "weather-and-vane-1", "Access-Challenge", "One-time code:")
	// Policies ask for it.
	w.wants(0, []string{"lane", "change", "Wired", "-factor-until", until, "-publish"}, "revision")
	w.wants(0, []string{"policy", "change", "Wired", "Crew", "-when", "group is Crew and not factor.enrolled is no",
		"-publish"}, "published")
	sign("v.vane", "weather-and-vane-1", "Access-Reject", "")
	sign("m.wade", "gangplank-and-tide", "Access-Accept", "")
}

// Devices of hardware are imported from CSV and from key containers, each for its person; what is wrong is told by its
// line, and nothing of it is stored.
func TestDevicesAreImported(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("m.wade", "gangplank-and-tide", "Crew")
	w.wants(0, []string{"lane", "change", "Wired", "-second-factor", "code", "-publish"}, "revision")
	file := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	sign := func(user, password, code, reason string) {
		t.Helper()
		if _, err := w.ask(func(q *trial.Request) { q.User, q.Password, q.Code = user, password, code }); err != nil {
			t.Fatal(err)
		}
		w.cameTo(reason)
	}
	const hex = "3132333435363738393031323334353637383930" // of RFC 4226, appendix D
	list := file("devices.csv", "person,serial,hex,kind,counter\nm.wade,77-1,"+hex+",hotp,3\nnobody,77-2,"+hex+
		",hotp,0\nk.nance,77-3,"+hex[:8]+",hotp,0\nk.nance,77-4,"+hex+",ocra,0\n")
	w.wants(
		1,
		[]string{"factor", "import", list},
		"line 3",
		"line 4",
		"octets is not used",
		"line 5",
		"is not a kind",
		"nothing was stored",
		"1 added",
		"3 wrong",
	)
	w.wants(0, []string{"factor", "list"}, "")
	w.wants(1, []string{"factor", "import", list, "-partial"}, "imported", "1 added")
	w.wants(0, []string{"factor", "list"}, "77-1", "m.wade")
	sign("m.wade", "gangplank-and-tide", "359152", "factor.code-used") // counter 2
	sign("m.wade", "gangplank-and-tide", "969429", "ok")               // counter 3
	sign("m.wade", "gangplank-and-tide", "969429", "factor.code-used")
	sign("m.wade", "gangplank-and-tide", "254676", "ok") // counter 5: one press was not used
	container := file(
		"devices.xml",
		`<KeyContainer xmlns="urn:ietf:params:xml:ns:keyprov:pskc"><KeyPackage><DeviceInfo>
		<SerialNo>88-1</SerialNo></DeviceInfo><Key Id="1" Algorithm="urn:ietf:params:xml:ns:keyprov:pskc:hotp">
		<AlgorithmParameters><ResponseFormat Length="6"/></AlgorithmParameters><Data><Secret>
		<PlainValue>MTIzNDU2Nzg5MDEyMzQ1Njc4OTA=</PlainValue></Secret><Counter><PlainValue>0</PlainValue></Counter></Data>
		</Key></KeyPackage></KeyContainer>`,
	)
	w.wants(1, []string{"factor", "import", container}, "nobody is named")
	people := file("people.csv", "serial;person\n88-1;k.nance\n")
	w.wants(
		0,
		[]string{"factor", "import", container, "-people", people, "-check"},
		"nothing was stored",
		"1 added",
	)
	w.wants(0, []string{"factor", "import", container, "-people", people}, "imported: 1 added")
	sign("k.nance", "gangway-and-rope", "755224", "ok")
	w.wants(0, []string{"factor", "show", "k.nance"}, "6 digits at each press", "88-1")
	w.wants(1, []string{"factor", "import", file("broken.xml", "<KeyContainer>")}, "key container")
	w.wants(1, []string{"factor", "import", container, "-key-file", file("key", "1234")}, "16, 24 or 32 octets")
	w.wants(0, []string{"audit", "list"}, "imported second factors")
}

// Inside a tunnel the code stands behind the password; who resumes a session would show none, so nobody does.
func TestCodesInsideTunnels(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	w.account("m.wade", "gangplank-and-tide", "Crew")
	wade, _ := w.enrol("m.wade")
	w.wants(
		1,
		[]string{"lane", "change", "Wired", "-method", "ttls-pap", "-method", "peap-mschapv2", "-resume", "60",
			"-second-factor", "code"},
		"PEAP with EAP-MSCHAPv2 cannot carry a one-time code",
		"methods[1]",
		"who resumes a TLS session shows no code",
	)
	w.wants(
		0,
		[]string{"lane", "change", "Wired", "-method", "ttls-pap", "-method", "peap-gtc", "-method", "ttls-gtc",
			"-method", "eap-gtc", "-resume", "0", "-second-factor", "code", "-reject-delay", "0", "-publish"},
		"revision",
	)
	for _, method := range []string{"ttls-pap", "peap-gtc", "ttls-gtc", "eap-gtc"} {
		sign := func(password string, admitted bool, reason string) {
			t.Helper()
			reply, err := w.ask(func(q *trial.Request) {
				q.Method, q.User, q.Password = method, "m.wade", password
				q.Supplicant = supplicant.Settings{Binding: true}
			})
			if err != nil || reply.Accepted != admitted {
				t.Errorf("%s: %s %v, %v", method, reply.Code, reply.Accepted, err)
			}
			w.cameTo(reason)
		}
		sign("gangplank-and-tide", false, "factor.code-missing")
		code := wade.next()
		sign("wrong"+code, false, "password.wrong")
		sign("gangplank-and-tide"+code, true, "ok")
		sign("gangplank-and-tide"+code, false, "factor.code-used")
		if a := w.cameTo("factor.code-used"); a.Facts.Method != method {
			t.Errorf("recorded as %s", a.Facts.Method)
		}
	}
	// and as an independent supplicant has it
	block := func(code string) string {
		return ` eap=TTLS` + "\n" + ` anonymous_identity="anonymous"` + "\n" + ` identity="m.wade"` + "\n" +
			` password="gangplank-and-tide` + code + `"` + "\n" + ` phase2="auth=PAP"`
	}
	w.eapol(0, block(wade.next()))
	w.eapol(252, block("000000"))
}

// An empty password is refused before any directory is asked, whatever comes with it: also beside a State, in lanes
// that ask for a code and in those that do not.
func TestAnEmptyPasswordIsNoAnswer(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	empty := func(reason string) {
		t.Helper()
		reply, err := w.ask(func(q *trial.Request) {
			q.Password = ""
			q.Attributes = append(q.Attributes, results.Attribute{Name: "State",
				Value: "0x" + strings.Repeat("ab", 16)})
		})
		if err != nil || reply.Accepted || reply.Code != "Access-Reject" {
			t.Errorf("%s, %v", reply.Code, err)
		}
		if a := w.cameTo(reason); len(a.Facts.Lookups) > 0 || a.Facts.Person != nil {
			t.Errorf("somebody was looked up: %+v", a.Facts)
		}
	}
	empty("password.empty")
	w.wants(
		0,
		[]string{"lane", "change", "Wired", "-second-factor", "code", "-factor-ask", "append", "-publish"},
		"",
	)
	empty("password.empty")
	w.wants(0, []string{"lane", "change", "Wired", "-factor-ask", "either", "-publish"}, "")
	empty("factor.lost")
}
