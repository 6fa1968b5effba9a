package e2e

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/wire/radius"
)

func (w *world) datagrams() string { return w.app.RADIUSDTLS[0].String() }

// datagramLink is a connection to a service over DTLS, as a device would make it.
func (w *world) datagramLink(from, authority string, own *tls.Certificate) *upstream.Link {
	w.t.Helper()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority))
	cfg := &tls.Config{RootCAs: roots, ServerName: "radius.example"}
	if own != nil {
		cfg.Certificates = []tls.Certificate{*own}
	}
	l := upstream.NewDatagramLink(netip.MustParseAddr(from), w.datagrams(), cfg, 3*time.Second)
	w.t.Cleanup(l.Close)
	return l
}

// The DTLS of another author, with the secret that the standard names.
func TestDatagramsOfOpenSSL(t *testing.T) {
	t.Parallel()
	need(t, "openssl")
	w := start(t)
	w.openSSL(w.datagrams(), radius.DTLSSecret, "-dtls1_2")
	if a := w.newest(1); a.Facts.Transport != "dtls" {
		t.Errorf("recorded as over %q", a.Facts.Transport)
	}
}

// Over DTLS the certificate and the address prove the client, many requests are under way at once, and neither
// strangers nor those who begin again from the same port are in the way of who is there.
func TestHostileDatagrams(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	own, _, authority := w.overTLS()
	l := w.datagramLink("127.0.0.1", authority, &own)
	manyAtOnce(t, l)
	strange, _ := start(t).gearAuthority("np-switch-1.example")
	other := w.gearCertificate("someone-else.example")
	for what, c := range map[string]struct {
		own          *tls.Certificate
		from, detail string
	}{"no certificate": {nil, "127.0.0.1", "certificate"}, "another name": {&other, "127.0.0.1",
		"carries none of the names"}, "another authority": {&strange, "127.0.0.1", "certificate.untrusted"}} {
		if code, err := signIn(w.datagramLink(c.from, authority, c.own), "k.nance", "gangway-and-rope"); err == nil {
			t.Errorf("%s: %v", what, code)
		}
		if got := w.contact(netip.MustParseAddr(c.from), "tls"); !strings.Contains(got.Detail, c.detail) {
			t.Errorf("%s: %q", what, got.Detail)
		}
	}
	if code, err := signIn(w.datagramLink("127.0.0.66", authority, &own), "k.nance", "gangway-and-rope"); err == nil {
		t.Errorf("from another address: %v", code)
	}
	w.contact(netip.MustParseAddr("127.0.0.66"), "unknown-client")
	w.strangers()
	// What is open goes on beside them, and a new one finds its place when they have had their time.
	if code, err := signIn(l, "k.nance", "gangway-and-rope"); err != nil || code != radius.AccessAccept {
		t.Errorf("beside strangers: %v, %v", code, err)
	}
	waitFor(t, "a place", func() bool {
		code, err := signIn(w.datagramLink("127.0.0.1", authority, &own), "k.nance", "gangway-and-rope")
		return err == nil && code == radius.AccessAccept
	})
	var c apitype.Client
	w.do(http.MethodGet, "/clients/np-switch-1", nil, &c)
	c.Enabled = false
	w.do(http.MethodPut, "/clients/np-switch-1", apitype.ClientInput{ClientFields: c.ClientFields}, nil, matchAny)
	w.publish()
	if code, err := signIn(l, "k.nance", "gangway-and-rope"); err == nil {
		t.Errorf("of a client that is disabled: %v", code)
	}
}

// strangers send what begins a handshake, and nothing after it, from many ports; and noise.
func (w *world) strangers() {
	w.t.Helper()
	to, _ := net.ResolveUDPAddr("udp", w.datagrams())
	hello := append([]byte{22, 0xfe, 0xfd, 0, 0, 0, 0, 0, 0, 0, 0, 0, 40, 1, 0, 0, 28}, make([]byte, 36)...)
	for i := range 300 {
		conn, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}, to)
		if err != nil {
			w.t.Fatal(err)
		}
		conn.Write(hello[:len(hello)-i%40])
		conn.Write([]byte(fmt.Sprint("noise ", i)))
		conn.Write(append(hello[:17:17], make([]byte, 60_000)...))
		conn.Write([]byte{23, 0xfe, 0xfd, 0, 1, 0, 0, 0, 0, 0, 0, 0, 1, 0})
		conn.Close()
	}
}

// Handshakes whose octets are changed on the way harm nobody: the parser of DTLS is not ours, and a fault in it would
// end the service.
func TestSpoiledHandshakes(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	own, _, authority := w.overTLS()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority))
	spoil := func(data []byte) []byte {
		if rand.IntN(3) == 0 {
			for range 1 + rand.IntN(4) {
				data[rand.IntN(len(data))] = byte(rand.Uint32())
			}
			if rand.IntN(6) == 0 {
				data = data[:rand.IntN(len(data))]
			}
		}
		return data
	}
	var all sync.WaitGroup
	for range 16 {
		all.Go(func() {
			at := onePort(t, w.datagrams(), "127.0.0.1:0", spoil)
			for range 20 {
				l := upstream.NewDatagramLink(netip.Addr{}, at, &tls.Config{RootCAs: roots,
					ServerName: "radius.example", Certificates: []tls.Certificate{own}}, 100*time.Millisecond)
				ctx, cancel := context.WithTimeout(context.Background(), 150*time.Millisecond)
				l.Ask(ctx, func(byte, [16]byte, *radius.Key) ([]byte, [16]byte, error) {
					return []byte{1, 1, 0, 20}, [16]byte{}, nil
				}, func([]byte, [16]byte, *radius.Key) error { return nil })
				cancel()
				l.Close()
			}
		})
	}
	all.Wait()
	if r, err := w.ask(nil); err != nil || !r.Accepted {
		t.Errorf("after all that: %+v, %v", r, err)
	}
}

// A client that was restarted begins anew from the port it had, while its old association still stands here.
func TestAClientBeginsAnewFromItsPort(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	own, _, authority := w.overTLS()
	_, port, _ := net.SplitHostPort(freePort(t))
	at := onePort(t, w.datagrams(), "127.0.0.1:"+port, nil)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(authority))
	for range 3 {
		l := upstream.NewDatagramLink(netip.Addr{}, at, &tls.Config{RootCAs: roots, ServerName: "radius.example",
			Certificates: []tls.Certificate{own}}, 3*time.Second)
		if code, err := signIn(l, "k.nance", "gangway-and-rope"); err != nil || code != radius.AccessAccept {
			t.Errorf("%v, %v", code, err)
		}
		// it is not closed: the other side hears nothing of its end
	}
}

// onePort passes datagrams on to a server, all from one port whoever sends them. Answers go to who sent last. change,
// if there is one, changes what is sent.
func onePort(t *testing.T, server, from string, change func([]byte) []byte) string {
	t.Helper()
	local, _ := net.ResolveUDPAddr("udp", from)
	to, _ := net.ResolveUDPAddr("udp", server)
	out, err := net.DialUDP("udp", local, to)
	if err != nil {
		t.Fatal(err)
	}
	in, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close(); out.Close() })
	var mu sync.Mutex
	var last netip.AddrPort
	go func() {
		buf := make([]byte, 1<<16)
		for {
			n, from, err := in.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			mu.Lock()
			last = from
			mu.Unlock()
			if change != nil {
				out.Write(change(buf[:n]))
				continue
			}
			out.Write(buf[:n])
		}
	}()
	go func() {
		buf := make([]byte, 1<<16)
		for {
			n, err := out.Read(buf)
			if err != nil {
				return
			}
			mu.Lock()
			to := last
			mu.Unlock()
			in.WriteToUDPAddrPort(buf[:n], to)
		}
	}()
	return in.LocalAddr().String()
}

// What is under way when the service ends is answered before.
func TestWhatIsUnderWayOverDTLSIsAnswered(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.basic("require", "127.0.0.1")
	own, _, authority := w.overTLS()
	const people = 4
	for i := range people {
		w.account(fmt.Sprint("p", i), "gangway-and-rope", "Crew")
	}
	l := w.datagramLink("127.0.0.1", authority, &own)
	if code, err := signIn(l, "k.nance", "gangway-and-rope"); err != nil || code != radius.AccessAccept {
		t.Fatalf("%v, %v", code, err)
	}
	var all sync.WaitGroup
	for i := range people { // a first password of somebody takes a while to check
		all.Go(func() {
			if code, err := signIn(l, fmt.Sprint("p", i), "gangway-and-rope"); code != radius.AccessAccept {
				t.Errorf("%d is under way at the end, and gets %v, %v", i, code, err)
			}
		})
	}
	time.Sleep(50 * time.Millisecond)
	w.app.Stop()
	all.Wait()
}

// A service forwards to another over DTLS.
func TestForwardingOverDTLS(t *testing.T) {
	t.Parallel()
	near, far := start(t), start(t)
	near.basic("require", "127.0.0.1")
	far.basic("require", "127.0.0.1")
	_, issued, authority := far.overTLS()
	var lane apitype.Lane
	far.do(http.MethodGet, "/lanes/Wired", nil, &lane)
	lane.When = "port.type is Ethernet and transport is dtls"
	far.do(http.MethodPut, "/lanes/"+lane.ID, lane.LaneFields, nil, client.IfMatch("*"))
	far.publish()
	near.forwards(far.datagrams(), "dtls", issued, authority)
	for password, want := range map[string]bool{"gangway-and-rope": true, "wrong": false} {
		if r, err := near.ask(func(q *trial.Request) { q.Password = password }); err != nil || r.Accepted != want {
			t.Errorf("%s: %+v, %v", password, r, err)
		}
	}
	near.wants(0, []string{"remote", "show", "harbour"}, "dtls", "as to-the-harbour, to radius.example", "answers")
	if a := far.newest(2); a.Facts.Transport != "dtls" {
		t.Errorf("there: over %q", a.Facts.Transport)
	}
}
