package e2e

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/lab"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/radius"
)

// changes sets how the sessions of a client are changed.
func (w *world) changes(name string, set func(*config.ClientSessions)) {
	w.t.Helper()
	var client apitype.Client
	w.do(http.MethodGet, "/clients/"+name, nil, &client)
	in := apitype.ClientInput{ClientFields: client.ClientFields}
	set(&in.Sessions)
	w.do(http.MethodPut, "/clients/"+name, in, nil, matchAny)
	w.publish()
}

// changeable lets the basic client take changes at an address.
func (w *world) changeable(c *lab.Changes, set func(*config.ClientSessions)) {
	w.t.Helper()
	w.changes("np-switch-1", func(s *config.ClientSessions) {
		s.ChangeAddress, s.ChangePort = c.Address().Addr().String(), int(c.Address().Port())
		if set != nil {
			set(s)
		}
	})
}

func (w *world) askSession(id string, in apitype.SessionAsk) (out apitype.SessionAnswer) {
	w.t.Helper()
	w.do(http.MethodPost, "/sessions/"+id+"/ask", in, &out)
	return out
}

// Sessions are ended and changed on the device, and what it answers stands in their story.
func TestChangesOnTheFly(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "quarantine", VLAN: "99"}, nil)
	switches, err := lab.TakeChanges("127.0.0.1:0", secret, lab.Willing)
	if err != nil {
		t.Fatal(err)
	}
	defer switches.Close()
	w.changeable(switches, nil)
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start", "NAS-IP-Address=192.0.2.11")
	id := w.openSessions("").Items[0].ID
	// what the device does not know
	if a := w.askSession(id, apitype.SessionAsk{Action: "disconnect"}); a.Done || a.Cause != 503 ||
		!strings.Contains(a.Answer, "Session-Context-Not-Found") {
		t.Errorf("of a session that the device does not know: %+v", a)
	}
	asked := make(chan radius.Packet, 10)
	switches.Open("s-1", func(p *radius.Packet) { asked <- *p })
	if a := w.askSession(id, apitype.SessionAsk{Action: "change", Pass: "quarantine"}); !a.Done {
		t.Errorf("changing the pass: %+v", a)
	}
	if s := w.openSessions("").Items[0]; s.Pass != "quarantine" || s.VLAN != "99" {
		t.Errorf("after the change, the session has %+v", s)
	}
	p := <-asked
	if string(p.Get(radius.TunnelPrivateGroupID)) != "99" && string(p.Get(radius.TunnelPrivateGroupID)) != "\x0099" ||
		string(p.Get(radius.UserName)) != "k.nance" || string(p.Get(radius.CallingStationID)) != d.mac ||
		string(p.Get(radius.NASIdentifier)) != "np-switch-1" || len(p.Get(radius.NASIPAddress)) != 4 {
		t.Errorf("the CoA-Request is %x", p.Raw())
	}
	if a := w.askSession(id, apitype.SessionAsk{Action: "reauthenticate"}); !a.Done {
		t.Errorf("authenticating again: %+v", a)
	}
	if p := <-asked; p.Code != radius.CoARequest {
		t.Errorf("it is asked by %s", p.Code)
	} else if v, _ := p.Integer(radius.SessionTimeout); v != 1 {
		t.Errorf("Session-Timeout is %d", v)
	}
	switches.Open("s-1", func(*radius.Packet) { d.must("Stop", "Acct-Terminate-Cause=Admin-Reset") })
	if a := w.askSession(id, apitype.SessionAsk{Action: "disconnect"}); !a.Done || a.Answer != "Disconnect-ACK" {
		t.Errorf("disconnecting: %+v", a)
	}
	var story []string
	for range 100 {
		story = nil
		for _, e := range w.session(id).Story {
			story = append(story, e.Text)
		}
		if len(story) == 6 {
			break
		}
	}
	want := []string{"The client reports the start", "Asked by o.brandt: disconnect: refused, Disconnect-NAK, " +
		"Session-Context-Not-Found (503)", "Asked by o.brandt: change to pass quarantine: done, CoA-ACK",
		"Asked by o.brandt: authenticate again: done, CoA-ACK", "Asked by o.brandt: disconnect: done, Disconnect-ACK",
		"The client reports the end: Admin-Reset"}
	slices.Sort(story)
	slices.Sort(want)
	if !slices.Equal(story, want) {
		t.Errorf("the story is\n%s", strings.Join(story, "\n"))
	}
	w.refused(404, http.MethodPost, "/sessions/"+id+"/ask", apitype.SessionAsk{Action: "disconnect"}, "not open")
	d.must("Start", "Acct-Delay-Time=0")
	w.refused(422, http.MethodPost, "/sessions/"+w.openSessions("").Items[0].ID+"/ask", apitype.SessionAsk{
		Action: "change", Pass: "nothing"}, "there is no pass")
}

// Many at once, a client that is mute, one that refuses changes, and one that takes none.
func TestChangesOfManySessions(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	refusing, err := lab.TakeChanges("127.0.0.1:0", "other-secret-for-coa", lab.NoCoA)
	if err != nil {
		t.Fatal(err)
	}
	defer refusing.Close()
	w.changeable(refusing, nil)
	for _, name := range []string{"s-1", "s-2", "s-3"} {
		d := &device{w: w, session: name, mac: "00-00-5E-00-53-0" + name[2:]}
		d.must("Start")
		refusing.Open(name, func(*radius.Packet) {})
	}
	all := apitype.SessionsAsk{SessionAsk: apitype.SessionAsk{Action: "disconnect"}, Client: "np-switch-1",
		Preview: true}
	var out apitype.SessionsAnswer
	w.do(http.MethodPost, "/sessions-ask", all, &out)
	if out.Count != 3 || len(out.Answers) != 0 || len(refusing.Asked()) != 0 {
		t.Errorf("the preview says %+v", out)
	}
	// the secret is another one for changes
	if a := w.askSession(w.openSessions("").Items[0].ID, apitype.SessionAsk{Action: "disconnect"}); a.Done ||
		!strings.Contains(a.Answer, "no answer") || a.Tries != 3 {
		t.Errorf("with a wrong secret: %+v", a)
	}
	var c apitype.Client
	w.do(http.MethodGet, "/clients/np-switch-1", nil, &c)
	w.do(http.MethodPut, "/clients/np-switch-1", apitype.ClientInput{ClientFields: c.ClientFields,
		ChangeSecret: "other-secret-for-coa"}, nil, matchAny)
	w.publish()
	if a := w.askSession(w.openSessions("").Items[0].ID, apitype.SessionAsk{Action: "reauthenticate"}); a.Done ||
		a.Cause != 405 {
		t.Errorf("of one that refuses changes: %+v", a)
	}
	all.Preview = false
	w.do(http.MethodPost, "/sessions-ask", all, &out)
	if out.Count != 3 || out.Done != 3 {
		t.Errorf("disconnecting all: %+v", out)
	}
	w.changeable(refusing, func(s *config.ClientSessions) { s.ChangePort = -1 })
	if a := w.askSession(w.openSessions("").Items[0].ID, apitype.SessionAsk{Action: "disconnect"}); a.Done ||
		!strings.Contains(a.Answer, "take no changes") {
		t.Errorf("of one that takes none: %+v", a)
	}
}

// A lane that follows changes: an account is disabled, its client is asked to authenticate the session again, cannot,
// and disconnects it; another pass is followed too, and what did not change is left alone. Whoever is asked for can be
// seen before.
func TestSessionsFollowWhatChanges(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	w.account("m.ward", "gangway-and-rope", "Crew")
	w.do(http.MethodPost, "/passes", apitype.PassFields{Name: "bridge", VLAN: "40"}, nil)
	w.publish()
	switches, err := lab.TakeChanges("127.0.0.1:0", secret, lab.NoCoA)
	if err != nil {
		t.Fatal(err)
	}
	defer switches.Close()
	w.changeable(switches, nil)
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start")
	id := w.openSessions("").Items[0].ID
	switches.Open("s-1", func(*radius.Packet) { d.must("Stop", "Acct-Terminate-Cause=Admin-Reset") })
	w.wants(0, []string{"session", "differing"}, "0 of 1 session would change")
	var account apitype.Account
	w.do(http.MethodGet, "/accounts/k.nance", nil, &account)
	disable := func(off bool) {
		in := apitype.AccountInput{AccountFields: account.AccountFields}
		in.Enabled = !off
		w.do(http.MethodPut, "/accounts/k.nance", in, nil, matchAny)
	}
	disable(true)
	w.wants(0, []string{"session", "differing"}, "would be refused now, person.disabled", "1 of 1 session would change")
	time.Sleep(300 * time.Millisecond)
	if len(switches.Asked()) != 0 {
		t.Fatalf("a lane that does not follow changes asked for %v", switches.Asked())
	}
	w.wants(0, []string{"lane", "change", "Wired", "-follow-changes", "on", "-publish"})
	w.wants(0, []string{"lane", "show", "Wired"}, "authenticated again when")
	disable(true) // once more, so that it is looked at right away
	waitFor(t, "the end of the session", func() bool { return w.openSessions("").Open == 0 })
	var story []string
	for _, e := range w.session(id).Story {
		story = append(story, e.Text)
	}
	told := strings.Join(story, "\n")
	for _, want := range []string{
		"Asked by rule, would be refused now, person.disabled: authenticate again: refused, " +
			"CoA-NAK, Unsupported-Service (405)", "person.disabled: disconnect: done, Disconnect-ACK",
		"the end: Admin-Reset"} {
		if !strings.Contains(told, want) {
			t.Errorf("the story lacks %q:\n%s", want, told)
		}
	}
	// another pass by a published policy, and a session that is left alone
	disable(false)
	d = w.signIn("s-2", "00-00-5E-00-53-08")
	d.must("Start")
	asked := make(chan radius.Code, 10)
	switches.Open("s-2", func(p *radius.Packet) { asked <- p.Code })
	disable(false)
	time.Sleep(300 * time.Millisecond)
	if got := switches.Asked(); len(got) != 2 {
		t.Errorf("what did not change was asked for: %v", got)
	}
	w.wants(0, []string{"policy", "change", "Wired", "Crew", "-pass", "bridge", "-publish"})
	waitFor(t, "the question about the other pass", func() bool { return len(switches.Asked()) >= 4 })
	if code := <-asked; code != radius.DisconnectRequest {
		t.Errorf("it ends with %s", code)
	}
}

// Over TLS both sides prove themselves by certificates, and what is asked for goes as over UDP.
func TestChangesOverTLS(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	own, _, authority := w.overTLS()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority))
	other := w.gearCertificate("someone-else.example")
	take := func(cert tls.Certificate) *lab.Changes {
		c, err := lab.TakeChangesTLS("127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{cert}, RootCAs: roots},
			lab.NoCoA)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(c.Close)
		w.changeable(c, func(s *config.ClientSessions) { s.ChangeTLS = true })
		return c
	}
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start")
	id := w.openSessions("").Items[0].ID
	take(other)
	if out := w.askSession(id, apitype.SessionAsk{Action: "disconnect"}); out.Done || !strings.Contains(
		fmt.Sprint(out), "carries none of the names of np-switch-1") {
		t.Errorf("a device with another certificate: %+v", out)
	}
	c := take(own)
	c.Open("s-1", func(*radius.Packet) { d.must("Stop") })
	if out := w.askSession(id, apitype.SessionAsk{Action: "reauthenticate"}); out.Done || out.Cause != 405 {
		t.Errorf("what the device does not do: %+v", out)
	}
	if out := w.askSession(id, apitype.SessionAsk{Action: "disconnect"}); !out.Done {
		t.Errorf("%+v", out)
	}
	w.wants(0, []string{"client", "show", "np-switch-1"}, "over TLS")
	w.refused(422, http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, ClientFields: apitype.ClientFields{
		Name: "x", MessageAuthenticator: "require", Addresses: []string{"192.0.2.1"},
		Sessions: config.ClientSessions{ChangeTLS: true}}},
		"there is no name for its certificate")
}
