package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/tacacs"
)

// phone is an authenticator whose clock runs ahead with each code, so that nobody has to wait for the next.
type phone struct {
	t    *testing.T
	id   string
	seed string
	at   time.Time
}

func (p *phone) next() string {
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
func (w *world) enrol(person string) (*phone, []string) {
	w.t.Helper()
	var offer apitype.FactorOffer
	if err := json.Unmarshal([]byte(w.wants(0, []string{"factor", "enrol", person, "-label", "phone of " + person,
		"-json"}, "otpauth://totp/")), &offer); err != nil {
		w.t.Fatal(err)
	}
	p := &phone{t: w.t.(*testing.T), id: offer.Factor.ID, seed: offer.Seed, at: time.Now().Add(-60 * time.Second)}
	w.wants(1, []string{"factor", "confirm", p.id, "000000"}, "not the code that the device should show")
	out := w.wants(0, []string{"factor", "confirm", p.id, p.next()}, "counts from now on")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	return p, strings.Fields(strings.Join(lines[2:], " "))
}

// asked lists the prompts of a trial.
func asked(r results.GearReply) string {
	var out []string
	for _, x := range r.Rounds {
		if word, prompt, ok := strings.Cut(x.Text, " "); ok && x.From == "server" && strings.HasPrefix(word, "GET") {
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
	w.wants(1, []string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "code", "-factor-rest", "9999"},
		"out of range")
	w.wants(0, []string{"lane", "change", "Gear", "-method", "pap", "-second-factor", "code", "-publish"}, "revision")
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
		out, ann.seed) {
		t.Error("the seed is shown again")
	}
	w.wants(0, []string{"factor", "remove", ann.id}, "the person is refused wherever")
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
		r := w.asks(g, trial.GearAsk{Ask: what, User: "ann", Password: "rope-and-anchor", Code: code, Remote: remote,
			Level: 15}, status)
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
	w.wants(0, []string{"draft", "rehearse"}, "factor.code-missing")
	w.wants(0, []string{"draft", "publish", "-note", "codes"}, "revision")
	sign("gangplank-and-tide", false)
	sign("gangplank-and-tide"+wade.next(), true)
	sign("wrong"+wade.next(), false)
	a := w.newest(1)
	if a.Reason != "password.wrong" || !strings.Contains(a.Facts.CredentialDetail, "taken for the one-time code") {
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
	w.refused(http.StatusUnprocessableEntity, http.MethodPost, "/factors", apitype.FactorInput{Person: " "}, "person")
	w.refused(http.StatusNotFound, http.MethodPost, "/factors/nothing/confirm", apitype.FactorCode{Code: "1"})
}
