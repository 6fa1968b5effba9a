package upstream

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"math/big"
	"net"
	"net/netip"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

// peer is a server over UDP whose secret is "far". What it does with a request is up to it: nil is no answer.
type peer struct {
	net.PacketConn
	asked  atomic.Int64
	answer atomic.Pointer[func(*radius.Packet) *radius.Builder]
}

func serve(t testing.TB, answer func(*radius.Packet) *radius.Builder) *peer {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	p := &peer{PacketConn: conn}
	p.answer.Store(&answer)
	go func() {
		buf := make([]byte, radius.MaxSize)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			q, err := radius.Decode(buf[:n])
			if err != nil {
				continue
			}
			if q.Code == radius.AccessRequest {
				p.asked.Add(1)
			}
			if b := (*p.answer.Load())(&q); b != nil {
				data, _ := b.SignReply(radius.NewKey([]byte("far")), q.Authenticator)
				conn.WriteTo(data, from)
			}
		}
	}()
	return p
}

func (p *peer) at() netip.AddrPort { return p.LocalAddr().(*net.UDPAddr).AddrPort() }

func accepts(q *radius.Packet) *radius.Builder {
	return radius.NewReply(nil, radius.AccessAccept, q.Identifier)
}

func mute(*radius.Packet) *radius.Builder { return nil }

// of makes a server of several machines, with a dead time of a minute.
func of(t testing.TB, change func(*Settings), peers ...*peer) *Server {
	t.Helper()
	settings := Settings{Name: "far", Secret: "far", Timeout: 60 * time.Millisecond, Tries: 1, Dead: time.Minute}
	for _, p := range peers {
		settings.Members = append(settings.Members, Settled{Address: p.at(), Weight: 1})
	}
	if change != nil {
		change(&settings)
	}
	s := Open(settings)
	t.Cleanup(s.Close)
	s.Begin()
	return s
}

var near = radius.NewKey([]byte("near"))

// forward asks a server about somebody.
func forward(t testing.TB, s *Server, state string) (*Answer, error) {
	t.Helper()
	p := packet(t, near, func(b *radius.Builder, _ [16]byte) {
		b.AddText(radius.UserName, "k.nance")
		if state != "" {
			b.AddText(radius.State, state)
		}
	})
	return s.Forward(context.Background(), &p, near)
}

func TestWhoIsSilentIsAskedLast(t *testing.T) {
	first, second := serve(t, mute), serve(t, accepts)
	s := of(t, nil, first, second)
	for range 5 {
		if a, err := forward(t, s, ""); err != nil || a.From != second.at().String() {
			t.Fatalf("%+v, %v", a, err)
		}
	}
	if first.asked.Load() != 1 || s.Silent(time.Now()) {
		t.Errorf("the silent one was asked %d times", first.asked.Load())
	}
	if st := s.States(); !st[0].Silent || st[0].Fault == "" || st[1].Silent || st[1].Answers != 5 {
		t.Errorf("%+v", st)
	}
	// Nobody else is there: it is asked all the same, and counts as there when it answers.
	answer := mute
	second.answer.Store(&answer)
	if _, err := forward(t, s, ""); err == nil || !s.Silent(time.Now()) {
		t.Errorf("with nobody there: %v", err)
	}
	answer2 := accepts
	first.answer.Store(&answer2)
	if a, err := forward(t, s, ""); err != nil || a.From != first.at().String() || s.Silent(time.Now()) {
		t.Errorf("%+v, %v", a, err)
	}
}

// Status-Server finds out that a machine is gone before anybody has to wait for it, and that it is back.
func TestProbing(t *testing.T) {
	var there atomic.Bool
	there.Store(true)
	first := serve(t, func(q *radius.Packet) *radius.Builder {
		if !there.Load() {
			return nil
		}
		return accepts(q)
	})
	second := serve(t, func(q *radius.Packet) *radius.Builder { // does not know Status-Server
		if q.Code == radius.StatusServer {
			return nil
		}
		return accepts(q)
	})
	s := of(t, func(o *Settings) { o.Probe = 20 * time.Millisecond }, first, second)
	until := func(what string, holds func([]State) bool) {
		t.Helper()
		for deadline := time.Now().Add(5 * time.Second); !holds(s.States()); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("%s: %+v", what, s.States())
			}
		}
	}
	until("it answers", func(l []State) bool { return l[0].Speaks && !l[0].Silent })
	there.Store(false)
	until("it is gone", func(l []State) bool { return l[0].Silent })
	begun := time.Now()
	if a, err := forward(t, s, ""); err != nil || a.From != second.at().String() ||
		time.Since(begun) > 50*time.Millisecond {
		t.Errorf("%+v, %v after %v", a, err, time.Since(begun))
	}
	there.Store(true)
	until("it is back", func(l []State) bool { return !l[0].Silent })
	if st := s.States()[1]; st.Silent || st.Speaks {
		t.Errorf("who does not know Status-Server counts as %+v", st)
	}
}

func TestWeights(t *testing.T) {
	heavy, light := serve(t, accepts), serve(t, accepts)
	s := of(t, func(o *Settings) { // a machine that is slow for a moment is not gone
		o.Weighted, o.Members[0].Weight, o.Timeout = true, 4, 5*time.Second
	}, heavy, light)
	for range 500 {
		if _, err := forward(t, s, ""); err != nil {
			t.Fatal(err)
		}
	}
	if n := heavy.asked.Load(); n < 350 || n > 450 {
		t.Errorf("weight 4 of 5 got %d of 500", n)
	}
}

// A conversation goes on where it began, whoever comes first otherwise.
func TestAConversationStays(t *testing.T) {
	asks := func(state string) func(*radius.Packet) *radius.Builder {
		return func(q *radius.Packet) *radius.Builder {
			if string(q.Get(radius.State)) == state {
				return accepts(q)
			}
			b := radius.NewReply(nil, radius.AccessChallenge, q.Identifier)
			b.AddText(radius.State, state)
			return b
		}
	}
	first, second := serve(t, asks("of the first")), serve(t, asks("of the second"))
	s := of(t, func(o *Settings) { o.Weighted = true }, first, second)
	for range 50 {
		a, err := forward(t, s, "")
		if err != nil || !a.Challenge() {
			t.Fatalf("%+v, %v", a, err)
		}
		state := string(a.Attributes[slices.IndexFunc(a.Attributes, func(a Attribute) bool {
			return a.Type == radius.State
		})].Value)
		if !s.Holds([]byte(state)) || s.Holds([]byte("of nobody")) {
			t.Fatal("it does not know its conversation")
		}
		if b, err := forward(t, s, state); err != nil || !b.Accepted() || b.From != a.From {
			t.Fatalf("%+v goes on with %+v, %v", a, b, err)
		}
	}
}

func TestOurOwnRequestsComingBack(t *testing.T) {
	s := of(t, nil, serve(t, accepts))
	p := packet(t, near, func(b *radius.Builder, _ [16]byte) { b.Add(radius.ProxyState, instance[:]) })
	if _, err := s.Forward(context.Background(), &p, near); !errors.Is(err, ErrCircle) {
		t.Errorf("%v", err)
	}
}

// tlsPeer serves RADIUS/1.1; each connection is handed to a function.
func tlsPeer(t testing.TB, version string, handle func(net.Conn, int)) (address string, cfg *tls.Config) {
	t.Helper()
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"far.example"}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	leaf, _ := x509.ParseCertificate(der)
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{NextProtos: []string{version},
		Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for n := 0; ; n++ {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go handle(conn, n)
		}
	}()
	roots := x509.NewCertPool()
	roots.AddCert(leaf)
	return l.Addr().String(), &tls.Config{RootCAs: roots, ServerName: "far.example"}
}

// next reads a packet of a stream.
func next(in *bufio.Reader) (radius.Packet, error) {
	data, err := radius.ReadPacket(in, make([]byte, radius.MaxSize))
	if err != nil {
		return radius.Packet{}, err
	}
	return radius.Decode(data)
}

func TestALinkAndWhatGoesWrongOnIt(t *testing.T) {
	for _, version := range []string{radius.Version10, radius.Version11} {
		key := radius.NewKey([]byte(radius.TLSSecret))
		if version == radius.Version11 {
			key = radius.NewClearKey()
		}
		address, cfg := tlsPeer(t, version, func(conn net.Conn, n int) {
			defer conn.Close()
			in := bufio.NewReader(conn)
			for i := 0; ; i++ {
				q, err := next(in)
				if err != nil || n == 0 && i == 1 { // the first connection ends within its second request
					return
				}
				switch user := string(q.Get(radius.UserName)); user {
				case "forged": // another's answer first, then the right one
					wrong := q.Authenticator
					wrong[0] ^= 1
					data, _ := radius.NewReply(nil, radius.AccessAccept, q.Identifier).SignReply(key, wrong)
					conn.Write(data)
				case "silent":
					continue
				case "noise":
					conn.Write([]byte("not RADIUS at all, but text"))
					return
				}
				data, _ := radius.NewReply(nil, radius.AccessReject, q.Identifier).SignReply(key, q.Authenticator)
				conn.Write(data)
			}
		})
		l := NewLink(netip.Addr{}, address, cfg, 300*time.Millisecond)
		t.Cleanup(l.Close)
		ask := func(user string) (code radius.Code, err error) {
			err = l.Ask(context.Background(), func(id byte, at [16]byte, key *radius.Key) ([]byte, [16]byte, error) {
				b := radius.NewRequest(radius.AccessRequest, id, at, true)
				b.AddText(radius.UserName, user)
				data, err := b.SignRequest(key)
				return data, at, err
			}, func(answer []byte, proof [16]byte, key *radius.Key) error {
				p, err := radius.Decode(answer)
				if err == nil {
					code, err = p.Code, key.VerifyReply(&p, proof)
				}
				return err
			})
			return code, err
		}
		for _, user := range []string{"first", "second", "third"} {
			if code, err := ask(user); err != nil || code != radius.AccessReject || l.Version() != version {
				t.Errorf("%s, %s: %v, %v over %s", version, user, code, err, l.Version())
			}
		}
		if code, err := ask("forged"); version == radius.Version10 && (err != nil || code != radius.AccessReject) {
			t.Errorf("%s: a forged answer before the right one: %v, %v", version, code, err)
		}
		if _, err := ask("silent"); !errors.Is(err, ErrNoAnswer) {
			t.Errorf("%s: no answer: %v", version, err)
		}
		if _, err := ask("noise"); err == nil {
			t.Errorf("%s: noise is taken", version)
		}
		if code, err := ask("afterwards"); err != nil || code != radius.AccessReject {
			t.Errorf("%s, afterwards: %v, %v", version, code, err)
		}
	}
}

// A port for accounting where nobody answers says nothing about authentication.
func TestAccountingThatIsNotAnswered(t *testing.T) {
	silent, first := serve(t, mute), serve(t, accepts)
	s := of(t, func(o *Settings) { o.Members[0].Accounting = silent.at() }, first)
	raw := []byte{radius.AcctSessionID, 5, 's', '-', '1'}
	if err := s.Account(context.Background(), raw, time.Second); !errors.Is(err, ErrNoAnswer) {
		t.Errorf("%v", err)
	}
	if s.Silent(time.Now()) || s.ReachAccounting(context.Background()) {
		t.Error("it counts as gone, or its accounting as there")
	}
	if err := s.Account(context.Background(), nil, 0); err == nil {
		t.Error("a record without attributes is forwarded")
	}
}
