package tunnel

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"runtime"
	"testing"
	"time"
)

func certificate(t testing.TB) tls.Certificate {
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(1),
		NotAfter: time.Now().Add(time.Hour)}, &x509.Certificate{SerialNumber: big.NewInt(1)}, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// pair shakes hands, one flight at a time.
func pair(t testing.TB, version uint16, suites []uint16, withoutEMS bool) (client, server *Tunnel) {
	t.Helper()
	client = Client(&tls.Config{InsecureSkipVerify: true, MinVersion: version, MaxVersion: version,
		CipherSuites: suites}, withoutEMS)
	server = Server(&tls.Config{Certificates: []tls.Certificate{certificate(t)}, MinVersion: version,
		MaxVersion: version, CipherSuites: suites}, withoutEMS)
	var up [2]bool
	var flight []byte
	var err error
	for range 6 {
		if flight, up[0], err = client.Handshake(flight); err != nil {
			t.Fatal(err)
		}
		if flight, up[1], err = server.Handshake(flight); err != nil {
			t.Fatal(err)
		}
		if up[0] && up[1] {
			return client, server
		}
	}
	t.Fatal("the handshake does not end")
	return nil, nil
}

func TestTunnel(t *testing.T) {
	for _, version := range []uint16{tls.VersionTLS10, tls.VersionTLS12, tls.VersionTLS13} {
		client, server := pair(t, version, nil, false)
		for _, message := range [][]byte{[]byte("x"), bytes.Repeat([]byte("lantern"), 9000)} {
			records, err := client.Write(message)
			if err != nil {
				t.Fatal(err)
			}
			var got []byte
			for len(records) > 0 { // however the records are cut
				n := min(1000, len(records))
				plain, err := server.Read(records[:n])
				if err != nil {
					t.Fatal(err)
				}
				got, records = append(got, plain...), records[n:]
			}
			if !bytes.Equal(got, message) {
				t.Errorf("%s: %d octets came out of %d", tls.VersionName(version), len(got), len(message))
			}
		}
		a, err := client.Export("client EAP encryption", nil, 64)
		b, err2 := server.Export("client EAP encryption", nil, 64)
		if err != nil || err2 != nil || !bytes.Equal(a, b) {
			t.Errorf("%s: keys %x %x, %v %v", tls.VersionName(version), a, b, err, err2)
		}
	}
}

// The keys that are derived here from the master secret are those that crypto/tls exports. The formula does not depend
// on the extended master secret, so a connection that has it can be compared.
func TestKeysWithoutCryptoTLS(t *testing.T) {
	for _, c := range []struct {
		version uint16
		suites  []uint16
	}{{tls.VersionTLS10, nil}, {tls.VersionTLS11, nil},
		{tls.VersionTLS12, []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256}},
		{tls.VersionTLS12, []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384}}} {
		client, server := pair(t, c.version, c.suites, true)
		for _, end := range []*Tunnel{client, server} {
			want, err := end.Export("ttls keying material", nil, 64)
			if err != nil {
				t.Fatal(err)
			}
			got, err := end.fromMaster("ttls keying material", 64)
			if err != nil || !bytes.Equal(got, want) {
				t.Errorf("%s %v: derived %x, exported %x: %v", tls.VersionName(c.version), c.suites, got, want, err)
			}
		}
	}
	_, server := pair(t, tls.VersionTLS12, nil, false)
	if _, err := server.fromMaster("x", 64); err == nil {
		t.Error("the master secret is kept though nobody asked for it")
	}
}

func TestAClosedHandshakeLeavesNothing(t *testing.T) {
	before := runtime.NumGoroutine()
	for range 100 {
		client := Client(&tls.Config{InsecureSkipVerify: true}, false)
		server := Server(&tls.Config{Certificates: []tls.Certificate{certificate(t)}}, false)
		hello, _, _ := client.Handshake(nil)
		server.Handshake(hello)
		client.Close()
		server.Close()
		server.Close()
	}
	time.Sleep(10 * time.Millisecond)
	if now := runtime.NumGoroutine(); now > before+1 {
		t.Errorf("%d goroutines before, %d after", before, now)
	}
}

func TestAlert(t *testing.T) {
	server := Server(&tls.Config{Certificates: []tls.Certificate{certificate(t)}}, false)
	defer server.Close()
	_, _, err := server.Handshake([]byte{21, 3, 1, 0, 2, 2, 48})
	if alert, ok := Alert(err); !ok || alert != 48 {
		t.Errorf("alert %d, %v: %v", alert, ok, err)
	}
	if _, ok := Alert(nil); ok {
		t.Error("no error is an alert")
	}
	out, _, err := Server(&tls.Config{Certificates: []tls.Certificate{certificate(t)}},
		false).Handshake([]byte("GET / HTTP/1.0\r\n\r\n"))
	if err == nil {
		t.Errorf("nonsense is taken for TLS: %x", out)
	}
}
