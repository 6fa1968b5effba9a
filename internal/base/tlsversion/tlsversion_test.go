package tlsversion

import (
	"crypto/tls"
	"errors"
	"net"
	"strings"
	"testing"
)

// What crypto/tls says today is put into words; if it says it otherwise one day, this shows.
func TestVersionsAreNamed(t *testing.T) {
	a, b := net.Pipe()
	go tls.Client(a, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10,
		MaxVersion: tls.VersionTLS11}).Handshake()
	err := tls.Server(b, &tls.Config{MinVersion: tls.VersionTLS13}).Handshake()
	if got := Named(err); !strings.Contains(got, "TLS 1.1") || strings.Contains(got, "302") {
		t.Errorf("%q in words is %q", err, got)
	}
	if got := Named(errors.New("tls: bad record MAC in record 302")); got != "bad record MAC in record 302" {
		t.Errorf("%q", got)
	}
}
