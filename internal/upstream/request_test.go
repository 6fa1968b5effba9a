package upstream

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

// open makes a server with one member and the secret "far".
func open(t testing.TB, address string, timeout time.Duration, tries int) *Server {
	t.Helper()
	s := Open(Settings{Name: "far", Members: []Settled{{Address: netip.MustParseAddrPort(address), Weight: 1}},
		Secret: "far", Timeout: timeout, Tries: tries, Dead: time.Minute})
	t.Cleanup(s.Close)
	return s
}

func packet(t testing.TB, key *radius.Key, fill func(b *radius.Builder, authenticator [16]byte)) radius.Packet {
	t.Helper()
	authenticator := [16]byte{1, 2, 3}
	b := radius.NewRequest(radius.AccessRequest, 7, authenticator, true)
	fill(b, authenticator)
	data, err := b.SignRequest(key)
	if err != nil {
		t.Fatal(err)
	}
	p, err := radius.Decode(data)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestRequestsAreHiddenAnew(t *testing.T) {
	near, far := near, radius.NewKey([]byte("far"))
	s := open(t, "127.0.0.1:1812", time.Second, 1)
	p := packet(t, near, func(b *radius.Builder, at [16]byte) {
		hidden, _ := near.HidePassword([]byte("gangway"), at)
		b.AddText(radius.UserName, "k.nance")
		b.Add(radius.UserPassword, hidden)
		b.Add(radius.CHAPPassword, make([]byte, 17))
		b.AddText(radius.ProxyState, "theirs")
	})
	authenticator := [16]byte{9, 9}
	data, err := s.request(&p, near, 9, authenticator, s.key)
	if err != nil {
		t.Fatal(err)
	}
	q, err := radius.Decode(data)
	if err != nil || !far.VerifyMessageAuthenticator(&q) {
		t.Fatalf("%v", err)
	}
	clear, err := far.OpenPassword(nil, q.Get(radius.UserPassword), authenticator)
	if err != nil || string(clear) != "gangway" || string(q.Get(chapChallenge)) != string(p.Authenticator[:]) {
		t.Errorf("the password comes as %q, %v; the challenge as %x", clear, err, q.Get(chapChallenge))
	}
	states := 0
	for kind := range q.Attributes() {
		if kind == radius.ProxyState {
			states++
		}
	}
	if states != 2 {
		t.Errorf("%d Proxy-States", states)
	}
	p = packet(t, near, func(b *radius.Builder, _ [16]byte) {
		for range maxHops {
			b.AddText(radius.ProxyState, "x")
		}
	})
	if _, err := s.request(&p, near, 9, authenticator, s.key); !errors.Is(err, ErrCircle) {
		t.Errorf("ten hops: %v", err)
	}
}

func TestAnswersAreProven(t *testing.T) {
	far := radius.NewKey([]byte("far"))
	s := open(t, "127.0.0.1:1812", time.Second, 1)
	authenticator := [16]byte{5}
	answer := func(key *radius.Key, code radius.Code, identifier byte) []byte {
		b := radius.NewReply(nil, code, identifier)
		b.AddText(radius.ReplyMessage, "aye")
		b.Add(tunnelPassword, []byte{0, 1, 2, 3})
		b.AddMPPEKey(key, radius.MSMPPESendKey, []byte("send"), authenticator, [2]byte{1, 2})
		b.AddMPPEKey(key, radius.MSMPPERecvKey, []byte("receive"), authenticator, [2]byte{3, 4})
		data, _ := b.SignReply(key, authenticator)
		return data
	}
	out, err := s.read(answer(far, radius.AccessAccept, 7), authenticator, s.key)
	if err != nil || string(out.SendKey) != "send" || string(out.ReceiveKey) != "receive" ||
		len(out.Attributes) != 1 || out.Attributes[0].Type != radius.ReplyMessage {
		t.Fatalf("%+v, %v", out, err)
	}
	for what, data := range map[string][]byte{
		"another secret": answer(radius.NewKey([]byte("guess")), radius.AccessAccept, 7),
		"not an answer":  answer(far, radius.AccessRequest, 7),
		"half":           answer(far, radius.AccessAccept, 7)[:30],
		"nothing":        nil,
	} {
		if out, err := s.read(data, authenticator, s.key); err == nil {
			t.Errorf("%s is taken: %+v", what, out)
		}
	}
	forged := answer(far, radius.AccessReject, 7)
	forged[0] = byte(radius.AccessAccept)
	if _, err := s.read(forged, authenticator, s.key); err == nil {
		t.Error("a refusal turned into an admission is taken")
	}
}

func TestNobodyThere(t *testing.T) {
	s := open(t, "127.0.0.1:9", 50*time.Millisecond, 2)
	p := packet(t, radius.NewKey([]byte("near")), func(b *radius.Builder, _ [16]byte) {
		b.AddText(radius.UserName, "x")
	})
	begun := time.Now()
	_, err := s.Forward(context.Background(), &p, radius.NewKey([]byte("near")))
	if err == nil || !strings.Contains(err.Error(), "far at 127.0.0.1:9") || time.Since(begun) > time.Second ||
		!s.Silent(time.Now()) {
		t.Errorf("%v after %v", err, time.Since(begun))
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := s.Forward(ctx, &p, radius.NewKey([]byte("near"))); err == nil {
		t.Error("goes on after its end")
	}
}

func FuzzRead(f *testing.F) {
	s := open(f, "127.0.0.1:1812", time.Second, 1)
	f.Add([]byte{2, 7, 0, 20})
	f.Fuzz(func(t *testing.T, data []byte) {
		if out, err := s.read(data, [16]byte{}, s.key); err == nil && len(out.Attributes) > 2048 {
			t.Fatal("too much")
		}
	})
}
