package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"math/big"
	"net/http"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
)

// resumer signs in again and again with one cache of sessions.
type resumer struct {
	w  *world
	in trial.Request
}

func (w *world) resumer(method, user, password string, certificate *tls.Certificate) *resumer {
	return &resumer{w, trial.Request{Server: w.radius, Secret: secret, Method: method, User: user, Password: password,
		Timeout: 5 * time.Second, Tries: 1,
		Supplicant: supplicant.Settings{Sessions: newTickets(), Certificate: certificate},
		Attributes: []results.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"}}}}
}

func (r *resumer) wants(accepted, resumed bool, when string) {
	r.w.t.Helper()
	reply, err := trial.Send(context.Background(), r.in)
	if err != nil || reply.Accepted != accepted || reply.TLS == nil || accepted && reply.TLS.Resumed != resumed {
		r.w.t.Errorf("%s, %s: accepted %v, %+v, wanted %v and %v: %v", r.in.Method, when, reply.Accepted, reply.TLS,
			accepted, resumed, err)
	}
}

// Whoever resumes shows no certificate again, but the one that was shown then is looked at again.
func TestARevokedCertificateDoesNotResume(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	for _, method := range []string{"eap-tls", "peap-tls", "ttls-tls", "teap-tls"} {
		made := w.issue("Lantern", "k.nance", apitype.IssueInput{UPN: "k.nance@lanternferries.example",
			Make: apitype.Make{Subject: "k.nance"}})
		pair, err := tls.X509KeyPair([]byte(made.Chain), []byte(made.Key))
		if err != nil {
			t.Fatal(err)
		}
		r := w.resumer(method, "k.nance@lanternferries.example", "", &pair)
		r.wants(true, false, "the first time")
		r.wants(true, true, "the second time")
		w.do(http.MethodPost, "/issued/"+made.Certificate.ID+"/revoke", nil, nil)
		r.wants(false, false, "after the revocation")
		if a := w.attempts("reason=certificate.revoked", 1); len(a) == 0 {
			t.Errorf("%s: no attempt says that the certificate is revoked", method)
		}
	}
}

// A certificate that ends while a session could still be resumed ends that too.
func TestAnExpiredCertificateDoesNotResume(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.tunnelled(nil)
	ca, key := shortAuthority(t)
	kept, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	w.do(http.MethodPost, "/authorities", apitype.AuthorityInput{Name: "Short",
		Certificate: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ca.Raw})),
		Key:         string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: kept}))}, nil)
	w.do(http.MethodPut, "/trusts/laptops", apitype.TrustFields{Name: "laptops", Authorities: []string{"Short"},
		Unanswered: "take"}, nil, ifMatchAny)
	w.publish()
	for _, method := range []string{"peap-tls", "ttls-tls", "teap-tls"} {
		until := time.Now().Add(4 * time.Second)
		r := w.resumer(method, "k.nance@lanternferries.example", "", shortLived(t, ca, key, until))
		r.wants(true, false, "the first time")
		r.wants(true, true, "the second time")
		time.Sleep(time.Until(until.Add(1100 * time.Millisecond))) // certificates end with a whole second
		r.wants(false, false, "after its end")
	}
}

func shortAuthority(t *testing.T) (*x509.Certificate, *ecdsa.PrivateKey) {
	t.Helper()
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Short lives"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	cert, _ := x509.ParseCertificate(der)
	return cert, key
}

// shortLived is a certificate of k.nance, with the user principal name that it is known by.
func shortLived(t *testing.T, ca *x509.Certificate, signer *ecdsa.PrivateKey, until time.Time) *tls.Certificate {
	t.Helper()
	upn, err := asn1.MarshalWithParams("k.nance@lanternferries.example", "utf8")
	if err != nil {
		t.Fatal(err)
	}
	other, err := asn1.Marshal(struct {
		ID    asn1.ObjectIdentifier
		Value asn1.RawValue `asn1:"explicit,tag:0"`
	}{asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 20, 2, 3}, asn1.RawValue{FullBytes: upn}})
	if err != nil {
		t.Fatal(err)
	}
	other[0] = 0xa0 // otherName is [0] IMPLICIT
	names, err := asn1.Marshal([]asn1.RawValue{{FullBytes: other}})
	if err != nil {
		t.Fatal(err)
	}
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject: pkix.Name{CommonName: "k.nance"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: until,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
		ExtraExtensions: []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 17}, Value: names}}}
	der, err := x509.CreateCertificate(rand.Reader, template, ca, key.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// A password that was reset in a real domain ends what was proven with the one before.
func TestAResetPasswordDoesNotResume(t *testing.T) {
	dc := newController(t)
	populate(t, dc.ca)
	w := start(t)
	w.member(ofDomain(dc.ca)) // which remembers people for a minute
	r := w.resumer("peap-mschapv2", "s.lodge", "Harbour-s.lodge-1", nil)
	r.wants(true, false, "the first time")
	r.wants(true, true, "the second time")
	admin := administrator(t, dc.ca)
	found, err := admin.Search(ldap.NewSearchRequest(domainBase, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, 5,
		false, "(sAMAccountName=s.lodge)", []string{"dn"}, nil))
	if err != nil || len(found.Entries) != 1 {
		t.Fatalf("looking for s.lodge: %v", err)
	}
	reset := ldap.NewModifyRequest(found.Entries[0].DN, nil)
	reset.Replace("unicodePwd", []string{quoted("Harbour-s.lodge-2")})
	if err := admin.Modify(reset); err != nil {
		t.Fatal(err)
	}
	r.in.Password = "Harbour-s.lodge-2" // by NTLM the domain takes the old one too, for as long as it is set to
	r.wants(true, false, "after the reset")
	r.wants(true, true, "and again")
}

// Who signed in at one node resumes at the other, which looks at the person and the password anew.
func TestResumptionAtTheOtherNode(t *testing.T) {
	t.Parallel()
	a := start(t)
	a.tunnelled(nil)
	b := a.second("second")
	a.well(2)
	made := a.issue("Lantern", "k.nance", apitype.IssueInput{UPN: "k.nance@lanternferries.example",
		Make: apitype.Make{Subject: "k.nance"}})
	pair, err := tls.X509KeyPair([]byte(made.Chain), []byte(made.Key))
	if err != nil {
		t.Fatal(err)
	}
	var all []*resumer
	for _, method := range []string{"peap-mschapv2", "eap-tls", "peap-tls"} {
		r := a.resumer(method, "k.nance@lanternferries.example", "gangway-and-rope", &pair)
		r.wants(true, false, "at the first node")
		all = append(all, r)
	}
	time.Sleep(time.Second) // they tell each other within that
	for _, r := range all {
		r.in.Server = b.radius
		r.wants(true, true, "at the second node")
	}
	time.Sleep(time.Second)
	for _, r := range all {
		r.in.Server = a.radius
		r.wants(true, true, "at the first node again")
	}
	var account apitype.Account
	a.do(http.MethodGet, "/accounts/k.nance", nil, &account)
	a.do(http.MethodPut, "/accounts/"+account.ID, apitype.AccountInput{Password: "another-and-anchor",
		AccountFields: account.AccountFields}, nil, ifMatchAny)
	a.do(http.MethodPost, "/issued/"+made.Certificate.ID+"/revoke", nil, nil)
	b.eventually("the second node knows of the revocation", func() bool {
		var issued apitype.Page[apitype.IssuedCertificate]
		b.do(http.MethodGet, "/issued", nil, &issued)
		for _, one := range issued.Items {
			if one.ID == made.Certificate.ID {
				return one.RevokedAt != nil
			}
		}
		return false
	})
	for _, r := range all {
		r.in.Server = b.radius
		r.wants(false, false, "at the second node, after the password was changed and the certificate revoked")
	}
}
