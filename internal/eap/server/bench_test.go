package server

import (
	"crypto/tls"
	"testing"

	"tollgate.example/key/internal/eap/tunnel"
)

// BenchmarkHandshake is what crypto/tls costs by itself: both ends over our pipes, without EAP.
func BenchmarkHandshake(b *testing.B) {
	w := newWorld(b)
	s := w.peer(b, "eap-tls")
	for b.Loop() {
		shakeHands(b, w.settings.TLS, &tls.Config{RootCAs: w.authority.pool, ServerName: s.ServerName})
	}
}

func BenchmarkPEAP(b *testing.B)   { benchmark(b, "peap-mschapv2", nil) }
func BenchmarkEAPTLS(b *testing.B) { benchmark(b, "eap-tls", nil) }
func BenchmarkTTLS(b *testing.B)   { benchmark(b, "ttls-pap", nil) }
func BenchmarkResumedPEAP(b *testing.B) {
	benchmark(b, "peap-mschapv2", tls.NewLRUClientSessionCache(1))
}

// benchmark runs conversations, both sides in one goroutine; a round trip costs nothing here.
func benchmark(b *testing.B, method string, sessions tls.ClientSessionCache) {
	w := newWorld(b)
	s := w.peer(b, method)
	s.Sessions = sessions
	w.run(b, w.asker(), s)
	b.ReportAllocs()
	for b.Loop() {
		a := w.asker()
		answer, p, err := w.run(b, a, s)
		if err != nil || !answer.OK() || p.Result.Resumed != (sessions != nil) {
			b.Fatalf("%v: %s %s", err, a.code, a.detail)
		}
	}
}

func shakeHands(b *testing.B, server, client *tls.Config) {
	b.Helper()
	one, two := tunnel.Client(client, false), tunnel.Server(server.Clone(), false)
	var flight []byte
	var up, there bool
	var err error
	for !up || !there {
		if flight, up, err = one.Handshake(flight); err != nil {
			b.Fatal(err)
		}
		if flight, there, err = two.Handshake(flight); err != nil {
			b.Fatal(err)
		}
	}
}
