package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/base/password"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

var loopback = netip.MustParseAddr("127.0.0.1")

func TestPAPGivesAVLAN(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1", "::1")
	for _, server := range w.app.RADIUS {
		reply, err := w.ask(func(r *trial.Request) { r.Server = server.String() })
		if err != nil || !reply.Accepted {
			t.Fatalf("%s: %+v, %v", server, reply, err)
		}
		if n := len(reply.Attributes); n == 0 || reply.Attributes[n-1].Name != "Class" {
			t.Fatalf("%s: no Class in %v", server, reply.Attributes)
		}
		if got := fmt.Sprint(reply.Attributes[:len(reply.Attributes)-1]); got != "[{Tunnel-Type VLAN} "+
			"{Tunnel-Medium-Type IEEE-802} "+
			"{Tunnel-Private-Group-ID 30} {Session-Timeout 3600} {Filter-Id crew}]" {
			t.Errorf("%s: attributes %s", server, got)
		}
	}
	a := w.attempts("user=k.nance", 2)[0]
	if a.Verdict != "admitted" || a.VLAN != "30" || a.MAC != "00-00-5E-00-53-07" || a.Where != "port 1/0/8" ||
		a.Policy != "Crew" || a.Revision != 1 {
		t.Errorf("recorded %+v", a)
	}
}

func TestRefusalsAreToldApart(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.account("t.marsh", "another-good-one", "Ticketing")
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: "switched-off-one",
		AccountFields: apitype.AccountFields{Name: "off"}}, nil)
	past := time.Now().Add(-time.Hour)
	w.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: "ended-some-time",
		AccountFields: apitype.AccountFields{Name: "old", Enabled: true, Expires: &past}}, nil)
	for _, c := range []struct {
		user, password, reason string
		change                 func(*trial.Request)
	}{
		{"k.nance", "wrong", "password.wrong", nil},
		{"k.nance", "", "password.empty", nil},
		{"nobody", "x", "person.unknown", nil},
		{"off", "switched-off-one", "person.disabled", nil},
		{"old", "ended-some-time", "person.expired", nil},
		{"t.marsh", "another-good-one", "policy.none", nil},
		{"k.nance@elsewhere.example", "x", "realm.none", nil},
		{"k.nance", "gangway-and-rope", "lane.none", func(r *trial.Request) { r.Attributes = nil }},
		{"", "x", "name.missing", nil},
	} {
		begun := time.Now()
		reply, err := w.ask(func(r *trial.Request) {
			r.User, r.Password = c.user, c.password
			if c.change != nil {
				c.change(r)
			}
		})
		if err != nil || reply.Accepted || reply.Code != "Access-Reject" {
			t.Errorf("%s: %+v, %v", c.reason, reply, err)
		}
		if c.reason != "lane.none" && time.Since(begun) < 50*time.Millisecond && c.user != "" {
			t.Errorf("%s was not held back", c.reason)
		}
		found := w.attempts("reason="+c.reason, 1)
		var detail apitype.AttemptDetail
		w.do(http.MethodGet, "/attempts/"+found[0].ID, nil, &detail)
		if string(detail.Trace.Reason) != c.reason || detail.Trace.Sentence == "" || detail.Trace.Remedy == "" {
			t.Errorf("%s is explained as %s: %q, %q", c.reason, detail.Trace.Reason, detail.Trace.Sentence,
				detail.Trace.Remedy)
		}
	}
}

func TestWhatIsDiscardedIsSeen(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.do(http.MethodPost, "/clients?publish=true", apitype.ClientInput{Secret: secret,
		ClientFields: apitype.ClientFields{Name: "off", MessageAuthenticator: "require",
			Addresses: []string{"127.0.0.9"}}}, nil)
	send := func(change func(*trial.Request)) {
		t.Helper()
		if reply, err := w.ask(func(r *trial.Request) { r.Timeout = 200 * time.Millisecond; change(r) }); !errors.Is(
			err, upstream.ErrNoAnswer) {
			t.Errorf("answered with %+v, %v", reply, err)
		}
	}
	send(func(r *trial.Request) { r.Secret = "another secret" })
	if c := w.contact(loopback, "secret-mismatch"); c.Client != "np-switch-1" || !c.Current ||
		!strings.Contains(c.Remedy, "both sides") {
		t.Errorf("shown as %+v", c)
	}
	send(func(r *trial.Request) { r.Unsigned = true })
	w.contact(loopback, "no-message-authenticator")
	send(func(r *trial.Request) {
		r.Attributes = append(r.Attributes, results.Attribute{Name: "EAP-Message", Value: "0x0201"})
		r.Unsigned = true
	})
	stranger, off := netip.MustParseAddr("127.0.0.7"), netip.MustParseAddr("127.0.0.9")
	send(func(r *trial.Request) { r.From = stranger })
	if c := w.contact(stranger, "unknown-client"); c.Client != "" {
		t.Errorf("a stranger is shown as %+v", c)
	}
	send(func(r *trial.Request) { r.From = off })
	w.contact(off, "client-disabled")
	raw(t, w.radius, []byte("this is no RADIUS packet at all"))
	w.contact(loopback, "malformed")
	raw(t, w.radius, append([]byte{4, 1, 0, 20}, make([]byte, 16)...))
	w.contact(loopback, "unexpected-code")
	var c apitype.Client
	w.do(http.MethodGet, "/clients/np-switch-1", nil, &c)
	if c.Dropped < 5 || c.Problem == nil {
		t.Errorf("the client shows %+v", c)
	}
	var now apitype.Now
	w.do(http.MethodGet, "/now", nil, &now)
	if now.Dropped < 6 || len(now.Attention) < 2 || now.Attention[0].Severity != "fail" {
		t.Errorf("Now shows %d dropped, %+v", now.Dropped, now.Attention)
	}
	if reply, err := w.ask(nil); err != nil || !reply.Accepted {
		t.Fatalf("a good request after all that: %v", err)
	}
	w.do(http.MethodGet, "/clients/np-switch-1", nil, &c)
	if c.Problem == nil || c.Problem.Current || c.LastSeen == nil {
		t.Errorf("after a good request the client shows %+v", c.Problem)
	}
}

// raw sends octets and returns what comes back within a moment.
func raw(t *testing.T, server string, data []byte) []byte {
	t.Helper()
	c, err := net.Dial("udp", server)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.Write(data)
	c.SetReadDeadline(time.Now().Add(150 * time.Millisecond))
	buf := make([]byte, 4096)
	n, _ := c.Read(buf)
	return buf[:n]
}

func TestMessageAuthenticatorModes(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("auto", "127.0.0.1")
	unsigned := func(r *trial.Request) { r.Unsigned = true }
	if reply, err := w.ask(unsigned); err != nil || !reply.Accepted {
		t.Fatalf("auto refuses one without before any was seen: %v", err)
	}
	if _, err := w.ask(nil); err != nil {
		t.Fatal(err)
	}
	unanswered := func(r *trial.Request) { r.Unsigned, r.Timeout = true, time.Second }
	if _, err := w.ask(unanswered); !errors.Is(err, upstream.ErrNoAnswer) {
		t.Errorf("auto accepts one without after one was seen: %v", err)
	}
	w.wants(0, []string{"client", "change", "np-switch-1", "-message-authenticator", "off", "-publish"},
		"published as revision 2", "can forge")
	if reply, err := w.ask(unsigned); err != nil || !reply.Accepted {
		t.Errorf("off refuses one without: %v", err)
	}
	wrong := func(r *trial.Request) { r.Unsigned, r.Secret = true, "another secret" }
	if _, err := w.ask(wrong); !errors.Is(err, radius.ErrReplyAuthenticator) {
		t.Errorf("a wrong secret without Message-Authenticator gives %v", err)
	}
	w.attempts("reason=password.unreadable", 1)
	w.contact(loopback, "secret-suspect")
}

func TestStatusServer(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("off", "127.0.0.1")
	reply, err := w.ask(func(r *trial.Request) { r.Status = true; r.Attributes = nil })
	if err != nil || reply.Code != "Access-Accept" || len(reply.Attributes) != 0 {
		t.Errorf("%+v, %v", reply, err)
	}
	if _, err := w.ask(func(r *trial.Request) {
		r.Status, r.Unsigned, r.Timeout = true, true,
			200*time.Millisecond
	}); !errors.Is(err, upstream.ErrNoAnswer) {
		t.Errorf("one without Message-Authenticator gives %v", err)
	}
}

func TestRetransmissionsAreAnsweredFromMemory(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	key := radius.NewKey([]byte(secret))
	auth := [16]byte{1, 2, 3, 4}
	build := func() []byte {
		hidden, _ := key.HidePassword([]byte("gangway-and-rope"), auth)
		b := radius.NewRequest(radius.AccessRequest, 77, auth, true)
		b.AddText(radius.UserName, "k.nance")
		b.Add(radius.UserPassword, hidden)
		b.AddInteger(radius.NASPortType, 15)
		b.Add(radius.ProxyState, []byte("first"))
		b.Add(radius.ProxyState, []byte("second"))
		data, err := b.SignRequest(key)
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	c, err := net.Dial("udp", w.radius)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	receive := func() []byte {
		t.Helper()
		c.SetReadDeadline(time.Now().Add(2 * time.Second))
		buf := make([]byte, 4096)
		n, err := c.Read(buf)
		if err != nil {
			t.Fatal(err)
		}
		return buf[:n]
	}
	c.Write(build())
	first := receive()
	c.Write(build())
	if second := receive(); !bytes.Equal(first, second) {
		t.Error("the retransmission is answered otherwise")
	}
	p, err := radius.Decode(first)
	if err != nil || p.Code != radius.AccessAccept || p.Raw()[20] != radius.MessageAuthenticator || key.VerifyReply(&p,
		auth) != nil {
		t.Errorf("reply %x, %v", first, err)
	}
	var states []string
	for kind, value := range p.Attributes() {
		if kind == radius.ProxyState {
			states = append(states, string(value))
		}
	}
	if fmt.Sprint(states) != "[first second]" {
		t.Errorf("Proxy-State comes back as %v", states)
	}
	auth[0] = 9 // the same identifier, a new request
	c.Write(build())
	if third := receive(); bytes.Equal(first, third) {
		t.Error("a new request is answered from memory")
	}
	if n := len(w.attempts("user=k.nance", 2)); n != 2 {
		t.Errorf("%d attempts are recorded for two requests and a retransmission", n)
	}
}

func TestSecretsRotateWithoutAnOutage(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	out := w.wants(0, []string{"client", "change", "np-switch-1", "-generate", "-keep-previous", "1h", "-publish"},
		"Shared secret, shown only here: ")
	fresh := strings.TrimSpace(out[strings.LastIndex(out, ": ")+2:])
	for _, s := range []string{secret, fresh} {
		if reply, err := w.ask(func(r *trial.Request) { r.Secret = s }); err != nil || !reply.Accepted {
			t.Errorf("secret %.4s: %v", s, err)
		}
	}
	w.wants(0, []string{"client", "change", "np-switch-1", "-generate", "-publish"})
	if _, err := w.ask(func(r *trial.Request) { r.Timeout = 200 * time.Millisecond }); !errors.Is(err,
		upstream.ErrNoAnswer) {
		t.Errorf("the oldest secret still works: %v", err)
	}
}

func TestRefusalsHoldNobodyUp(t *testing.T) {
	password.Usual.Take() // no other test runs meanwhile
	defer quick.Take()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.wants(0, []string{"lane", "change", "Wired", "-reject-delay", "1000", "-publish"})
	w.ask(nil) // so that the password needs no argon2id any more
	var all sync.WaitGroup
	for i := range 50 {
		all.Go(func() { w.ask(func(r *trial.Request) { r.User = fmt.Sprintf("nobody%d", i) }) })
	}
	time.Sleep(100 * time.Millisecond)
	begun := time.Now()
	reply, err := w.ask(nil)
	if took := time.Since(begun); err != nil || !reply.Accepted || took > 500*time.Millisecond {
		t.Errorf("an admission beside 50 delayed refusals takes %v, %v", took, err)
	}
	all.Wait()
}

func TestPublishingUnderLoadLosesNothing(t *testing.T) {
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.ask(nil) // so that the password needs no argon2id any more
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	var mu sync.Mutex
	sent, failed := 0, error(nil)
	for range 4 {
		all.Go(func() {
			for ctx.Err() == nil {
				reply, err := w.ask(nil)
				mu.Lock()
				sent++
				if err != nil || !reply.Accepted {
					failed = fmt.Errorf("%+v, %v", reply, err)
				}
				mu.Unlock()
			}
		})
	}
	var lane apitype.Lane
	enough := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return sent >= 300
	}
	published := 0
	for i := 0; i < 20 || !enough(); i++ {
		published++
		w.do(http.MethodGet, "/lanes/Wired", nil, &lane)
		fields := lane.LaneFields
		fields.Note = fmt.Sprint(i)
		w.do(http.MethodPut, "/lanes/Wired?publish=true", fields, nil, client.IfMatch(lane.Tag))
	}
	cancel()
	all.Wait()
	if failed != nil {
		t.Errorf("of %d requests during %d publishes one failed: %v", sent, published, failed)
	}
}

func TestNoSecretIsKeptInClear(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	w.ask(nil)
	w.ask(func(r *trial.Request) { r.Password = "mistyped-and-private" })
	w.attempts("", 2)
	w.app.Stop()
	grep(t, w.dir, secret, "gangway-and-rope", "mistyped-and-private", "lantern-demo-2026", w.api.Token)
}

// send sends octets and waits for nothing.
func send(t *testing.T, server string, data []byte) {
	t.Helper()
	c, err := net.Dial("udp", server)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.Write(data)
}
