package e2e

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/radius"
)

// hand speaks EAP by hand over one socket.
type hand struct {
	t    testing.TB
	conn net.Conn
	key  *radius.Key
	id   byte
}

func (w *world) hand() *hand {
	w.t.Helper()
	c, err := net.Dial("udp", w.radius)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { c.Close() })
	return &hand{w.t, c, radius.NewKey([]byte(secret)), 0}
}

// build makes a request with an EAP packet and State.
func (r *hand) build(user, mac string, state, message []byte) []byte {
	r.id++
	var authenticator [16]byte
	rand.Read(authenticator[:])
	b := radius.NewRequest(radius.AccessRequest, r.id, authenticator, true)
	b.AddText(radius.UserName, user)
	b.AddText(radius.CallingStationID, mac)
	b.AddInteger(radius.NASPortType, 15)
	if state != nil {
		b.Add(radius.State, state)
	}
	b.AddEAP(message)
	data, err := b.SignRequest(r.key)
	if err != nil {
		r.t.Fatal(err)
	}
	return data
}

// ask sends a packet; ok is false if nothing comes back. A loaded machine is slow.
func (r *hand) ask(data []byte) (p radius.Packet, ok bool) { return r.within(10*time.Second, data) }

// within is ask with another patience: less where silence is expected.
func (r *hand) within(patience time.Duration, data []byte) (p radius.Packet, ok bool) {
	r.conn.Write(data)
	r.conn.SetReadDeadline(time.Now().Add(patience))
	buf := make([]byte, radius.MaxSize)
	n, err := r.conn.Read(buf)
	if err != nil {
		return p, false
	}
	p, err = radius.Decode(buf[:n])
	return p, err == nil
}

func identity(name string) []byte {
	return eap.Packet{Code: eap.Response, Identifier: 1, Type: eap.Identity, Data: []byte(name)}.Encode()
}

const (
	firstMAC  = "02-00-5E-10-00-01"
	secondMAC = "02-00-5E-10-00-02"
)

func TestConversationsAreNotMixedUp(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	r := w.hand()
	one, ok := r.ask(r.build("k.nance", firstMAC, nil, identity("k.nance")))
	if !ok || one.Code != radius.AccessChallenge {
		t.Fatalf("the first round: %v", one.Code)
	}
	state := one.Get(radius.State)
	nak := func(p radius.Packet) []byte {
		packet, _ := eap.Decode(p.EAP())
		return eap.Packet{Code: eap.Response, Identifier: packet.Identifier, Type: eap.Nak,
			Data: []byte{byte(eap.PEAP)}}.Encode()
	}
	// the State of one device in the hands of another
	if p, ok := r.ask(r.build("k.nance", secondMAC, state, nak(one))); !ok || p.Code != radius.AccessReject ||
		p.EAP() == nil {
		t.Errorf("another device goes on with the conversation: %v", p.Code)
	}
	if a := w.newest(1); a.Reason != "eap.mixed" {
		t.Errorf("recorded as %s", a.Reason)
	}
	// a State that nobody gave out
	if p, ok := r.ask(r.build("k.nance", firstMAC, make([]byte, 16), nak(one))); !ok || p.Code != radius.AccessReject {
		t.Errorf("an invented State: %v", p.Code)
	}
	if a := w.newest(2); a.Reason != "eap.lost" {
		t.Errorf("recorded as %s", a.Reason)
	}
	// the right one still works, whatever happened meanwhile
	second := r.build("k.nance", firstMAC, state, nak(one))
	p, ok := r.ask(second)
	if !ok || p.Code != radius.AccessChallenge {
		t.Fatalf("the second round: %v", p.Code)
	}
	if again, ok := r.ask(second); !ok || string(again.Raw()) != string(p.Raw()) {
		t.Error("a retransmission is not answered with the same octets")
	}
	// the same answer once more, as a new request: not what is expected any more
	if p, ok := r.within(300*time.Millisecond, r.build("k.nance", firstMAC, state, nak(one))); ok {
		t.Errorf("a replayed answer gets %v", p.Code)
	}
	// something that is no EAP ends it with a reason
	if p, ok := r.ask(r.build("k.nance", firstMAC, state, []byte{2, 2, 0, 99})); !ok || p.Code != radius.AccessReject {
		t.Errorf("a lying length: %v", p.Code)
	}
	if a := w.newest(3); a.Reason != "eap.malformed" {
		t.Errorf("recorded as %s", a.Reason)
	}
	// and after the end nothing goes on
	if p, ok := r.ask(r.build("k.nance", firstMAC, state, nak(p))); !ok || p.Code != radius.AccessReject {
		t.Errorf("after the end: %v", p.Code)
	}
}

func TestAnEmptyEAPMessageAsksForTheIdentity(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	r := w.hand()
	r.id++
	b := radius.NewRequest(radius.AccessRequest, r.id, [16]byte{7}, true)
	b.AddText(radius.UserName, "k.nance")
	b.AddInteger(radius.NASPortType, 15)
	b.Add(radius.EAPMessage, nil)
	data, _ := b.SignRequest(r.key)
	p, ok := r.ask(data)
	if packet, err := eap.Decode(p.EAP()); !ok || err != nil || packet.Type != eap.Identity ||
		p.Code != radius.AccessChallenge {
		t.Errorf("got %v %v", p.Code, packet)
	}
}

// A hundred thousand conversations that are begun and left cost bounded memory, and the service goes on.
func TestHalfOpenConversations(t *testing.T) {
	w := start(t)
	w.tunnelled(nil)
	r := w.hand()
	go func() { // nobody reads the challenges
		buf := make([]byte, 4096)
		for {
			if _, err := r.conn.Read(buf); err != nil {
				return
			}
		}
	}()
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for i := range 100_000 {
		r.conn.Write(r.build("k.nance", fmt.Sprintf("02-00-5E-%02X-%02X-%02X", i>>16, i>>8&255, i&255), nil,
			identity("k.nance")))
		if i%200 == 0 {
			time.Sleep(2 * time.Millisecond)
		}
	}
	time.Sleep(500 * time.Millisecond)
	open, _ := w.app.Gate.Conversations()
	runtime.GC()
	runtime.GC() // the first leaves what lay in pools
	runtime.ReadMemStats(&after)
	// what lives; how full its pages are depends on the tests before
	grown := int64(after.HeapAlloc) - int64(before.HeapAlloc)
	if open < 5000 || open > 20_000 || grown > 250<<20 {
		t.Errorf("%d conversations are open, the heap grew by %d MB", open, grown>>20)
	}
	reply, err := trial.Send(context.Background(), trial.Request{Server: w.radius, Secret: secret,
		Method: "peap-mschapv2", User: "k.nance", Password: "gangway-and-rope", Timeout: 3 * time.Second, Tries: 2,
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}})
	if err != nil || !reply.Accepted {
		t.Errorf("meanwhile: %+v %v", reply, err)
	}
}

// What tshark sees of every method is well-formed, signed, and inside the tunnel what it should be.
func TestTsharkLooksIntoTheTunnel(t *testing.T) {
	need(t, "tshark")
	w := start(t)
	w.tunnelled(nil)
	w.issue("Lantern", "k", apitype.IssueInput{UPN: "k.nance@lanternferries.example"})
	_, port, _ := net.SplitHostPort(w.radius)
	file := w.write("eap.pcapng", "")
	capture := exec.Command("tshark", "-q", "-i", "lo", "-f", "udp port "+port, "-w", file)
	if err := capture.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2500 * time.Millisecond)
	keys, err := os.Create(w.dir + "/keys.log")
	if err != nil {
		t.Fatal(err)
	}
	for _, method := range []string{"peap-mschapv2", "ttls-mschapv2", "eap-tls", "eap-md5", "mschapv2"} {
		device := supplicant.Settings{KeyLog: keys, Binding: true, Outer: "anonymous"}
		if method == "eap-tls" {
			pair, err := loadPair(w.dir + "/k")
			if err != nil {
				t.Fatal(err)
			}
			device.Certificate = pair
		}
		if reply, err := trial.Send(context.Background(), trial.Request{Server: w.radius, Secret: secret,
			Method: method, User: "k.nance", Password: "gangway-and-rope", Supplicant: device, Timeout: 3 * time.Second,
			Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}}); err != nil ||
			!reply.Accepted {
			t.Fatalf("%s: %+v %v", method, reply, err)
		}
	}
	time.Sleep(time.Second)
	capture.Process.Signal(os.Interrupt)
	capture.Wait()
	keys.Close()
	look := func(filter string, more ...string) string {
		t.Helper()
		out, err := exec.Command("tshark", append([]string{"-r", file, "-d", "udp.port==" + port + ",radius", "-o",
			"radius.shared_secret:" + secret, "-o", "radius.validate_authenticator:TRUE",
			"-o", "tls.keylog_file:" + keys.Name(), "-Y", filter}, more...)...).Output()
		if err != nil {
			t.Fatalf("tshark: %v", err)
		}
		return string(out)
	}
	if bad := look("radius.authenticator.invalid==1 or _ws.malformed"); bad != "" {
		t.Errorf("tshark finds fault with\n%s", bad)
	}
	if n := strings.Count(look("radius.code==11"), "\n"); n < 15 {
		t.Errorf("only %d challenges were captured", n)
	}
	if inner := look("eap.type==26", "-V"); !strings.Contains(inner, "MS-CHAP") && !strings.Contains(inner, "MS-EAP") {
		t.Error("the inner EAP-MSCHAPv2 of PEAP does not show with the key log")
	}
}

func (w *world) sessions() int {
	_, n := w.app.Gate.Conversations()
	return n
}

// Somebody who was disabled, or got a new password, does not resume.
func TestWhoMayNoLongerResumes(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	cache := newTickets()
	in := trial.Request{Server: w.radius, Secret: secret, Method: "peap-mschapv2", User: "k.nance",
		Password: "gangway-and-rope", Supplicant: supplicant.Settings{Sessions: cache}, Timeout: 3 * time.Second,
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}}
	try := func(accepted, resumed bool) {
		t.Helper()
		reply, err := trial.Send(context.Background(), in)
		if err != nil || reply.Accepted != accepted || reply.TLS == nil || reply.TLS.Resumed != resumed {
			t.Errorf("accepted %v, wanted %v; %+v: %v", reply.Accepted, accepted, reply.TLS, err)
		}
	}
	try(true, false)
	try(true, true)
	if w.sessions() == 0 {
		t.Error("no session is kept")
	}
	var a apitype.Account
	w.do(http.MethodGet, "/accounts/k.nance", nil, &a)
	a.Enabled = false
	w.do(http.MethodPut, "/accounts/k.nance", apitype.AccountInput{AccountFields: a.AccountFields}, nil, ifMatchAny)
	try(false, false) // something changed, so everything is proven anew
	a.Enabled = true
	w.do(http.MethodPut, "/accounts/k.nance", apitype.AccountInput{AccountFields: a.AccountFields,
		Password: "gangway-and-rope"}, nil, ifMatchAny)
	try(true, false) // the ticket is spent; a new conversation
	w.do(http.MethodPut, "/accounts/k.nance", apitype.AccountInput{AccountFields: a.AccountFields,
		Password: "another-password"}, nil, ifMatchAny)
	try(false, false)
	var lane apitype.Lane
	w.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	in.Password = "another-password"
	try(true, false)
	lane.Policies = lane.Policies[:1]
	w.do(http.MethodPut, "/lanes/Wired?publish=true", lane.LaneFields, nil, ifMatchAny)
	try(false, true) // what was published applies to those who resume
}
