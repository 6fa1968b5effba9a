package e2e

import (
	"context"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// device is a session of a device on a switch.
type device struct {
	w       *world
	session string
	mac     string
	class   string
}

// signIn signs in with a device, and remembers the Class that came back.
func (w *world) signIn(session, mac string) *device {
	w.t.Helper()
	reply, err := w.ask(func(r *trial.Request) {
		for i := range r.Attributes {
			if r.Attributes[i].Name == "Calling-Station-Id" {
				r.Attributes[i].Value = mac
			}
		}
	})
	if err != nil || !reply.Accepted {
		w.t.Fatalf("signing in: %+v, %v", reply, err)
	}
	d := &device{w: w, session: session, mac: mac}
	for _, a := range reply.Attributes {
		if a.Name == "Class" {
			d.class = a.Value
		}
	}
	if d.class == "" {
		w.t.Fatal("no Class was given")
	}
	return d
}

// says sends an accounting record: the status, then NAME=VALUE.
func (d *device) says(status string, more ...string) error {
	r := trial.Report{Server: d.w.app.Accounting[0].String(), Secret: secret, Timeout: 2 * time.Second, Tries: 1}
	add := func(name, value string) {
		r.Attributes = append(r.Attributes, results.Attribute{Name: name, Value: value})
	}
	add("Acct-Status-Type", status)
	add("Acct-Session-Id", d.session)
	add("User-Name", "k.nance")
	add("NAS-Identifier", "np-switch-1")
	add("NAS-Port-Id", "1/0/8")
	add("Calling-Station-Id", d.mac)
	if d.class != "" {
		add("Class", d.class)
	}
	for _, text := range more {
		name, value, _ := strings.Cut(text, "=")
		add(name, value)
	}
	return r.Send(context.Background())
}

func (d *device) must(status string, more ...string) {
	d.w.t.Helper()
	if err := d.says(status, more...); err != nil {
		d.w.t.Fatalf("%s %s is not acknowledged: %v", status, d.session, err)
	}
}

func (w *world) openSessions(query string) apitype.SessionPage {
	w.t.Helper()
	var page apitype.SessionPage
	w.do(http.MethodGet, "/sessions?"+query, nil, &page)
	return page
}

func (w *world) session(id string) (out apitype.SessionDetail) {
	w.t.Helper()
	w.do(http.MethodGet, "/sessions/"+id, nil, &out)
	return out
}

// A session from the attempt to its end: it is joined with the attempt, shows what the client says, survives a restart,
// and what is sent again counts once.
func TestASessionFromStartToStop(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Start", "Framed-IP-Address=192.0.2.50")
	d.must("Start", "Framed-IP-Address=192.0.2.50", "Acct-Delay-Time=3") // sent again
	open := w.openSessions("")
	if len(open.Items) != 1 || open.Open != 1 {
		t.Fatalf("open are %+v", open)
	}
	s := open.Items[0]
	if !s.Open || s.User != "k.nance" || s.Pass != "crew" || s.VLAN != "30" || s.Address != "192.0.2.50" ||
		s.Place != "1/0/8" || s.MAC != "00-00-5E-00-53-07" || s.Client != "np-switch-1" || s.Note != "" {
		t.Errorf("the session is %+v", s)
	}
	d.must("Interim-Update", "Acct-Session-Time=60", "Acct-Input-Octets=1000", "Acct-Input-Gigawords=2",
		"Acct-Output-Octets=7", "Tunnel-Private-Group-ID=31", "Framed-IP-Address=192.0.2.51")
	s = w.openSessions("q=192.0.2.51").Items[0]
	if s.In != 2<<32+1000 || s.Out != 7 || s.Applied != "31" || s.Address != "192.0.2.51" {
		t.Errorf("after an interim record: %+v", s)
	}
	attempt := w.newest(1)
	if attempt.Session == nil || attempt.Session.ID != s.ID || !attempt.Session.Open || attempt.Session.VLAN != "31" ||
		attempt.Session.Address != "192.0.2.51" {
		t.Errorf("the attempt shows the session %+v", attempt.Session)
	}
	w.app.Stop()
	w.boot()
	if again := w.openSessions("").Items; len(again) != 1 || again[0].In != s.In || again[0].ID != s.ID {
		t.Fatalf("after a restart: %+v", again)
	}
	d.must("Interim-Update", "Acct-Session-Time=50", "Acct-Input-Octets=5") // counters that shrink
	if s = w.openSessions("").Items[0]; s.In != 2<<32+1000 || s.Note != "counters went back" {
		t.Errorf("after counters went back: %+v", s)
	}
	stop := []string{"Acct-Session-Time=120", "Acct-Input-Octets=2000", "Acct-Input-Gigawords=2",
		"Acct-Terminate-Cause=User-Request"}
	d.must("Stop", stop...)
	w.app.Stop()
	w.boot()
	d.must("Stop", append(stop, "Acct-Delay-Time=5")...)
	if left := w.openSessions(""); len(left.Items) != 0 || left.Open != 0 {
		t.Errorf("after the stop: %+v", left)
	}
	ended := w.openSessions("state=ended&user=k.nance").Items
	if len(ended) != 1 || ended[0].Cause != "User-Request" || ended[0].Seconds != 120 || ended[0].ID != s.ID {
		t.Errorf("ended are %+v", ended)
	}
	story := w.session(s.ID)
	var kinds []string
	for _, e := range story.Story {
		kinds = append(kinds, e.Kind)
	}
	if got := strings.Join(kinds, " "); got != "start interim interim stop" || story.Attempt == nil ||
		story.Attempt.ID != attempt.ID || len(story.Story[0].Attributes) < 6 {
		t.Errorf("the story is %s, of attempt %+v", got, story.Attempt)
	}
	if a := w.newest(1); a.Session == nil || a.Session.Open {
		t.Errorf("the attempt shows after the end %+v", a.Session)
	}
	w.refused(404, http.MethodGet, "/sessions/0000000000000", nil, "no")
}

// What misbehaving clients send is kept apart, and visible.
func TestAccountingThatIsOdd(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	first := w.signIn("s-1", "00-00-5E-00-53-07")
	first.must("Start")
	// another session under the same identifier
	other := w.signIn("s-1", "00-00-5E-00-53-08")
	other.must("Start")
	if open, ended := w.openSessions("").Items, w.openSessions("state=ended").Items; len(open) != 1 ||
		open[0].MAC != other.mac || len(ended) != 1 || ended[0].Cause != "begun anew without an end" {
		t.Errorf("after an identifier was used again: open %+v, ended %+v", open, ended)
	}
	// one that was never begun, and a long identifier
	lost := &device{w: w, session: strings.Repeat("x", 200), mac: "00-00-5E-00-53-09"}
	lost.must("Stop", "Acct-Session-Time=90", "Acct-Terminate-Cause=Lost-Carrier")
	lost.must("Stop", "Acct-Session-Time=90", "Acct-Terminate-Cause=Lost-Carrier")
	if ended := w.openSessions("state=ended&mac=00:00:5e:00:53:09").Items; len(ended) != 1 || ended[0].Pass != "" ||
		ended[0].Note != "no open session has this identifier" {
		t.Errorf("an end without a beginning: %+v", ended)
	}
	// one that was begun while nobody listened
	missed := &device{w: w, session: "s-9", mac: "00-00-5E-00-53-0A"}
	missed.must("Interim-Update", "Acct-Session-Time=600")
	if s := w.openSessions("mac=0000.5e00.530a").Items; len(s) != 1 || s[0].Note != "no start was received" ||
		time.Since(s[0].Began) < 590*time.Second {
		t.Errorf("a session whose start was missed: %+v", s)
	}
	// the Class of another client
	w.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret, ClientFields: apitype.ClientFields{
		Name: "other", Enabled: true, Addresses: []string{"127.0.0.2"}, MessageAuthenticator: "auto"}}, nil)
	w.publish()
	stolen := trial.Report{Server: w.app.Accounting[0].String(), From: netip.MustParseAddr("127.0.0.2"), Secret: secret,
		Timeout: time.Second, Tries: 1, Attributes: []results.Attribute{{Name: "Acct-Status-Type", Value: "Start"},
			{Name: "Acct-Session-Id", Value: "s-1"}, {Name: "User-Name", Value: "k.nance"},
			{Name: "Class", Value: other.class}}}
	if err := stolen.Send(context.Background()); err != nil {
		t.Fatal(err)
	}
	if s := w.openSessions("client=other").Items; len(s) != 1 || s[0].Pass != "" ||
		s[0].Note != "its Class was given to another client" {
		t.Errorf("with the Class of another client: %+v", s)
	}
	if s := w.openSessions("client=np-switch-1&mac=" + other.mac).Items; len(s) != 1 {
		t.Errorf("the same identifier of another client changed %+v", s)
	}
	// a device that restarts ends its own sessions alone
	other.must("Accounting-On")
	for range 100 {
		if len(w.openSessions("client=np-switch-1").Items) == 0 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if left := w.openSessions("").Items; len(left) != 1 || left[0].Client != "other" {
		t.Errorf("after a restart of the switch: %+v", left)
	}
	// what does not verify, or says nothing
	stolen.Secret, stolen.Timeout = "another-secret-xx", 200*time.Millisecond
	if err := stolen.Send(context.Background()); err == nil {
		t.Error("a request with a wrong secret is acknowledged")
	}
	w.contact(netip.MustParseAddr("127.0.0.2"), "secret-mismatch")
	stolen.Secret, stolen.Attributes = secret, stolen.Attributes[1:]
	if err := stolen.Send(context.Background()); err == nil {
		t.Error("a request without a status is acknowledged")
	}
	if c := w.contact(netip.MustParseAddr("127.0.0.2"), "malformed"); !strings.Contains(c.Detail, "Acct-Status-Type") {
		t.Errorf("it is shown as %+v", c)
	}
}

// A client that only wants an answer gets one.
func TestAccountingIsAnsweredAndDropped(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	var c apitype.Client
	w.do(http.MethodGet, "/clients/np-switch-1", nil, &c)
	c.Sessions.Accounting = "answer"
	w.do(http.MethodPut, "/clients/np-switch-1", apitype.ClientInput{ClientFields: c.ClientFields}, nil, matchAny)
	w.publish()
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	for i := range 3 {
		d.must("Interim-Update", "Acct-Session-Time="+strconv.Itoa(i))
	}
	if n := w.openSessions("").Open; n != 0 || w.app.Sessions.Records().Len() != 0 {
		t.Errorf("%d sessions, %d records are kept", n, w.app.Sessions.Records().Len())
	}
}

// Somebody on the way repeats an Accounting-On that was captured, which would end every session and free its address;
// and a device passes off its session as that of another.
func TestAccountingThatIsRepeatedByOthers(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	at := func(ago time.Duration) string {
		return "Event-Timestamp=" + time.Now().Add(-ago).UTC().Format(time.RFC3339)
	}
	d := w.signIn("s-1", "00-00-5E-00-53-07")
	d.must("Accounting-On", at(time.Hour))
	d.must("Start", at(0))
	captured := at(time.Hour)
	for _, restarted := range []bool{false, true} { // what is remembered outlives a restart of the service
		if restarted {
			w.app.Stop()
			w.boot()
		}
		d.must("Accounting-On", captured, "Acct-Delay-Time=1")
		w.contact(netip.MustParseAddr("127.0.0.1"), "replayed")
		if n := w.openSessions("").Open; n != 1 {
			t.Fatalf("%d sessions are open after an old Accounting-On", n)
		}
	}
	thief := &device{w: w, session: "s-2", mac: "00-00-5E-00-53-66", class: d.class}
	thief.must("Start")
	if s := w.openSessions("mac=" + thief.mac).Items; len(s) != 1 || s[0].Pass != "" ||
		s[0].Note != "its Class was given to the device 00-00-5E-00-53-07" {
		t.Errorf("with the Class of another device: %+v", s)
	}
	d.must("Accounting-On", at(0))
	waitFor(t, "the end of all sessions", func() bool { return w.openSessions("").Open == 0 })
}
