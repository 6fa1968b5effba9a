package cluster

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// An entry opens at its own place in its own log, and nowhere else.
func TestEntriesAreSealedForTheirPlace(t *testing.T) {
	log, err := NewLog(nil, make([]byte, 32), "e1", DefaultPrefix)
	if err != nil {
		t.Fatal(err)
	}
	value := log.seal(7, log.NewID(), []byte("the whole configuration"))
	if e, err := log.open(7, value); err != nil || string(e.Data) != "the whole configuration" {
		t.Fatalf("%q, %v", e.Data, err)
	}
	if strings.Contains(string(value), "configuration") {
		t.Error("an entry can be read without the key")
	}
	if _, err := log.open(8, value); err == nil {
		t.Error("an entry opens at another place")
	}
	other, _ := NewLog(nil, make([]byte, 32), "e2", DefaultPrefix)
	if _, err := other.open(7, value); err == nil {
		t.Error("an entry opens in another epoch")
	}
	key := make([]byte, 32)
	key[0] = 1
	stranger, _ := NewLog(nil, key, "e1", DefaultPrefix)
	for _, spoiled := range [][]byte{nil, value[:10], value[:len(value)-1],
		append([]byte{value[0] ^ 1}, value[1:]...)} {
		if _, err := log.open(7, spoiled); err == nil {
			t.Error("a spoiled entry opens")
		}
	}
	if _, err := stranger.open(7, value); err == nil {
		t.Error("an entry opens with another key")
	}
}

func FuzzOpenEntry(f *testing.F) {
	log, err := NewLog(nil, make([]byte, 32), "e1", DefaultPrefix)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(log.seal(1, log.NewID(), []byte("x")))
	f.Fuzz(func(_ *testing.T, value []byte) { log.open(1, value) })
}

func FuzzParseToken(f *testing.F) {
	f.Add(
		(&Invitation{Name: "n", Node: "i", Address: "a", Authority: make([]byte, 32),
			Secret: make([]byte, 32)}).Token(),
	)
	f.Fuzz(func(_ *testing.T, text string) { ParseToken(text) })
}

// Who joins talks to nobody but the node that invites, by its authority and its name.
func TestJoinersMeetNobodyElse(t *testing.T) {
	node := func(name string) (ca []byte, at string) {
		ca, caKey, err := newAuthority()
		if err != nil {
			t.Fatal(err)
		}
		csr, key, err := request(name)
		if err != nil {
			t.Fatal(err)
		}
		certificate, err := issue(ca, caKey, csr, name, "127.0.0.1")
		if err != nil {
			t.Fatal(err)
		}
		config, err := (&identity{ca, certificate, key}).tls(func(string) bool { return true })
		if err != nil {
			t.Fatal(err)
		}
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			writeJSON(w, joinAnswer{Number: 9})
		}))
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		s.Listener.Close()
		s.Listener = tls.NewListener(l, config)
		s.Start()
		t.Cleanup(s.Close)
		return ca, l.Addr().String()
	}
	ca, at := node("first")
	_, impostor := node("first")
	parsed, err := parseCertificate(ca)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(parsed.Raw)
	good := Invitation{Name: "second", Node: "first", Address: at, Authority: sum[:], Secret: make([]byte, 32),
		Until: time.Now().Add(time.Hour).Unix()}
	if back, err := ParseToken(good.Token()); err != nil || back.Address != at {
		t.Fatalf("%+v, %v", back, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	if answer, err := ask(ctx, &good, &joinRequest{}); err != nil || answer.Number != 9 {
		t.Errorf("the node that invites: %+v, %v", answer, err)
	}
	elsewhere, misnamed := good, good
	elsewhere.Address, misnamed.Node = impostor, "other"
	for what, i := range map[string]Invitation{"an impostor": elsewhere, "another node": misnamed} {
		if answer, err := ask(ctx, &i, &joinRequest{Secret: i.Secret}); err == nil {
			t.Errorf("%s is told the secret and answers %+v", what, answer)
		}
	}
}
