package attention

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
)

func TestDaysLeft(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		after time.Duration
		want  int
	}{{0, 0}, {23 * time.Hour, 0}, {24 * time.Hour, 1}, {-time.Second, -1}, {-25 * time.Hour, -2}} {
		if got := DaysLeft(now.Add(c.after), now); got != c.want {
			t.Errorf("%v from now: %d days, wanted %d", c.after, got, c.want)
		}
	}
}

// text makes a certificate that is valid until a moment.
func text(t *testing.T, until time.Time) string {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	made := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "radius"},
		NotBefore: until.AddDate(-1, 0, 0), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, made, made, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

func TestCertificatesAskForAttentionInTime(t *testing.T) {
	now := time.Now()
	day := 24 * time.Hour
	far, near, over := text(t, now.Add(60*day)), text(t, now.Add(10*day+time.Hour)), text(t, now.Add(-day))
	c := &config.Config{
		Certificates: []*config.Certificate{{ID: "1", Name: "far", Chain: far}, {ID: "2", Name: "near",
			Chain: near + over}, {ID: "3", Name: "unread", Chain: "x"}},
		Authorities: []*config.Authority{{ID: "4", Name: "old", Certificate: over}},
		Trusts:      []*config.Trust{{ID: "5", Name: "several", PEM: far + near}},
	}
	got := certificates(c, now)
	want := []struct {
		code     Code
		severity Severity
		kind, id string
		days     string
	}{{CertificateEnds, Warn, "certificate", "2", "10"}, {CertificateEnded, Fail, "authority", "4", "-2"},
		{CertificateEnds, Warn, "trust", "5", "10"}}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i, w := range want {
		if g := got[i]; g.Code != w.code || g.Severity != w.severity || g.Kind != w.kind || g.ID != w.id ||
			g.Params["days"] != w.days {
			t.Errorf("item %d is %+v, wanted %+v", i, g, w)
		}
	}
}
