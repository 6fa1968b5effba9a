package directory

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"tollgate.example/key/internal/core/results"
)

// A certificate for another name than was typed is trusted only if somebody has trusted its authority by hand.
func TestAnotherNameIsNotTrustedByItself(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"dc1.elsewhere.example"}, IsCA: true,
		BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	authority := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	for _, c := range []struct {
		ca, server string
		trusted    bool
		state      results.StepState
	}{
		{"", "dc1.lantern.example:636", false, results.Warn}, {"", "dc1.elsewhere.example:636", false, results.Warn},
		{authority, "dc1.elsewhere.example:636", true, results.Pass}, {authority, "192.0.2.53:636", true, results.Pass},
	} {
		var last results.Step
		d := &discovery{report: func(s results.Step) { last = s }}
		d.cfg.CA = c.ca
		d.trust(c.server, &tls.ConnectionState{PeerCertificates: []*x509.Certificate{cert}})
		if d.Trusted != c.trusted || last.State != c.state || len(d.Certificates) != 1 ||
			len(d.Certificates[0].SHA256) != 95 {
			t.Errorf("%s, trusting %d octets: trusted %v, %+v", c.server, len(c.ca), d.Trusted, last)
		}
	}
}
