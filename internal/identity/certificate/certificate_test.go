package certificate

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ocsp"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/store"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// maker is an authority of the test.
type maker struct {
	cert *x509.Certificate
	key  crypto.Signer
}

func newMaker(t testing.TB, name string) *maker {
	t.Helper()
	key, err := NewKey(P256)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := NewAuthority(name, key, now.AddDate(-1, 0, 0), now.AddDate(5, 0, 0))
	if err != nil {
		t.Fatal(err)
	}
	return &maker{cert, key}
}

func (m *maker) issue(t testing.TB, s Subject) (*x509.Certificate, crypto.Signer) {
	t.Helper()
	if s.From.IsZero() {
		s.From, s.Until = now.AddDate(0, -1, 0), now.AddDate(1, 0, 0)
	}
	key, err := NewKey(P256)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := Issue(m.cert, m.key, s, key.Public())
	if err != nil {
		t.Fatal(err)
	}
	return cert, key
}

func laptop(name string) Subject {
	return Subject{Name: name, UPN: []string{name + "@lanternferries.example"}, Client: true}
}

func TestIdentities(t *testing.T) {
	ca := newMaker(t, "Lantern")
	full, _ := ca.issue(t, Subject{Name: "Sunniva Lodge", UPN: []string{"s.lodge@lanternferries.example", "ünicode@x"},
		Email: []string{"sunniva@lanternferries.example"}, DNS: []string{"pc01.lanternferries.example", "192.0.2.7"},
		Client: true})
	if got := UPNs(full); len(got) != 2 || got[1] != "ünicode@x" {
		t.Errorf("UPNs %q", got)
	}
	if len(full.DNSNames) != 1 || len(full.IPAddresses) != 1 || len(full.EmailAddresses) != 1 {
		t.Errorf("names %v %v %v", full.DNSNames, full.IPAddresses, full.EmailAddresses)
	}
	for sources, want := range map[string]string{
		"upn": "s.lodge@lanternferries.example upn", "dns": "host/pc01.lanternferries.example dns",
		"email": "sunniva@lanternferries.example email", "subject": "Sunniva Lodge subject", "uri": " ",
		"uri,dns,upn": "host/pc01.lanternferries.example dns", "": " ",
	} {
		name, source := Identity(full, strings.Split(sources, ","))
		if name+" "+source != want {
			t.Errorf("by %s it is %q by %q, wanted %q", sources, name, source, want)
		}
	}
	for _, bad := range []string{"*.lanternferries.example", strings.Repeat("x", 300)} {
		c, _ := ca.issue(t, Subject{Name: "x", DNS: []string{bad}, Client: true})
		if name, _ := Identity(c, []string{FromDNS}); name != "" {
			t.Errorf("%q stands for a computer", name)
		}
	}
	if f := Facts(full); f.Subject != "CN=Sunniva Lodge" || f.Issuer != "CN=Lantern" || f.Serial == "" ||
		len(f.UPN) != 2 {
		t.Errorf("facts %+v", f)
	}
	if info := Describe(full); info.Key != "ECDSA P-256" || len(info.DNS) != 2 || len(info.SHA256) != 95 {
		t.Errorf("described as %+v", info)
	}
}

func TestVerify(t *testing.T) {
	ca, other := newMaker(t, "Lantern"), newMaker(t, "Other")
	trust := &Trust{Name: "laptops", Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker()}
	good, _ := ca.issue(t, laptop("s.lodge"))
	server, _ := ca.issue(t, Subject{Name: "x", DNS: []string{"x.example"}, Server: true})
	old, _ := ca.issue(t, Subject{Name: "old", Client: true, From: now.AddDate(0, -2, 0), Until: now.AddDate(0, -1, 0)})
	early, _ := ca.issue(t, Subject{Name: "early", Client: true, From: now.AddDate(0, 1, 0), Until: now.AddDate(0, 2,
		0)})
	foreign, _ := other.issue(t, laptop("s.lodge"))
	for _, c := range []struct {
		leaf   *x509.Certificate
		want   reason.Code
		detail string
	}{
		{good, reason.OK, ""}, {server, reason.CertificatePurpose, "clientAuth"}, {old, reason.CertificateExpired,
			"was valid until 2026-10-23"}, {early, reason.CertificateEarly, "is valid from 2026-12-23"},
		{foreign, reason.CertificateUntrusted, "issued by CN=Other; trust list laptops holds CN=Lantern"},
		{ca.cert, reason.CertificateUntrusted, "authority itself"},
	} {
		if v := trust.Verify(context.Background(), []*x509.Certificate{c.leaf}, nil, now); v.Code != c.want ||
			!strings.Contains(v.Detail, c.detail) {
			t.Errorf("%s: %s %q, wanted %s %q", c.leaf.Subject, v.Code, v.Detail, c.want, c.detail)
		}
	}
	if v := trust.Verify(context.Background(), nil, nil, now); v.Code != reason.CertificateMissing {
		t.Errorf("nothing at all: %s", v.Code)
	}
}

func TestOurOwnRecord(t *testing.T) {
	s, err := store.Open(context.Background(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx := context.Background()
	issued, _ := OpenIssued(ctx, s)
	ca := newMaker(t, "Lantern")
	leaf, _ := ca.issue(t, laptop("s.lodge"))
	stray, _ := ca.issue(t, laptop("t.marchetti"))
	if err := issued.Add(ctx, store.Issued{ID: "1", Authority: "a1", Serial: Serial(leaf),
		Subject: leaf.Subject.String(), Until: now.UnixMilli()}); err != nil {
		t.Fatal(err)
	}
	trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker(), Hard: true,
		Revoked: func(issuer *x509.Certificate, serial string) (bool, bool, time.Time) {
			return issued.Revoked("a1", serial)
		}}
	verify := func(c *x509.Certificate) Verdict { return trust.Verify(ctx, []*x509.Certificate{c}, nil, now) }
	if v := verify(leaf); v.Code != reason.OK || v.Revocation != "not revoked, by our own record" {
		t.Errorf("before: %+v", v)
	}
	if v := verify(stray); v.Code != reason.CertificateUnchecked {
		t.Errorf("not issued here: %+v", v)
	}
	if err := issued.Revoke(ctx, "1", now); err != nil {
		t.Fatal(err)
	}
	if v := verify(leaf); v.Code != reason.CertificateRevoked || !strings.Contains(v.Detail,
		"revoked here at 2026-11-23") {
		t.Errorf("after: %+v", v)
	}
	again, err := OpenIssued(ctx, s)
	if revoked, known, _ := again.Revoked("a1", Serial(leaf)); err != nil || !revoked || !known ||
		len(again.List("a1")) != 1 || len(again.List("other")) != 0 {
		t.Errorf("after a restart: %v %v %v", revoked, known, err)
	}
	if err := issued.Revoke(ctx, "1", now); err == nil {
		t.Error("a certificate can be revoked twice")
	}
	der, err := CRL(ca.cert, ca.key, issued.RevocationEntries("a1"), now)
	if err != nil {
		t.Fatal(err)
	}
	list, err := x509.ParseRevocationList(der)
	if err != nil || len(list.RevokedCertificateEntries) != 1 || list.RevokedCertificateEntries[0].SerialNumber.Cmp(
		leaf.SerialNumber) != 0 || list.CheckSignatureFrom(ca.cert) != nil {
		t.Errorf("our list %+v: %v", list, err)
	}
}

func TestLists(t *testing.T) {
	ca, other := newMaker(t, "Lantern"), newMaker(t, "Other")
	good, _ := ca.issue(t, laptop("good"))
	bad, _ := ca.issue(t, laptop("bad"))
	revoked := []x509.RevocationListEntry{{SerialNumber: bad.SerialNumber, RevocationTime: now.Add(-time.Hour)}}
	der, _ := CRL(ca.cert, ca.key, revoked, now)
	foreign, _ := CRL(other.cert, other.key, revoked, now)
	file := filepath.Join(t.TempDir(), "list.pem")
	os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}), 0o600)
	fetches, up := 0, true
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fetches++
		switch {
		case !up:
			http.Error(w, "gone", http.StatusServiceUnavailable)
		case r.URL.Path == "/foreign":
			w.Write(foreign)
		case r.URL.Path == "/nonsense":
			io.WriteString(w, "<html>")
		default:
			w.Write(der)
		}
	}))
	defer web.Close()
	verify := func(hard bool, at time.Time, c *Checker, where string, leaf *x509.Certificate) Verdict {
		trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: c, Hard: hard, CRLs: []string{where}}
		return trust.Verify(context.Background(), []*x509.Certificate{leaf}, nil, at)
	}
	c := NewChecker()
	for _, where := range []string{file, "file:" + file, web.URL} {
		if v := verify(true, now, c, where, good); v.Code != reason.OK || !strings.Contains(v.Revocation,
			"not revoked, by list") {
			t.Errorf("%s, good: %+v", where, v)
		}
		if v := verify(true, now, c, where, bad); v.Code != reason.CertificateRevoked {
			t.Errorf("%s, bad: %+v", where, v)
		}
	}
	if fetches != 1 {
		t.Errorf("fetched %d times for two certificates", fetches)
	}
	for path, says := range map[string]string{"/foreign": "not signed by CN=Lantern", "/nonsense": "x509"} {
		if v := verify(true, now, c, web.URL+path, good); v.Code != reason.CertificateUnchecked ||
			!strings.Contains(v.Detail, says) {
			t.Errorf("%s: %+v", path, v)
		}
		if v := verify(false, now, c, web.URL+path, good); v.Code != reason.OK || !strings.Contains(v.Revocation,
			"unknown, accepted all the same") {
			t.Errorf("%s, taken: %+v", path, v)
		}
	}
	up = false
	if v := verify(true, now.Add(23*time.Hour), c, web.URL, good); v.Code != reason.OK {
		t.Errorf("an old list that still holds: %+v", v)
	}
	if v := verify(true, now.Add(25*time.Hour), c, web.URL, good); v.Code != reason.CertificateUnchecked ||
		!strings.Contains(v.Detail, "ran out") || !strings.Contains(v.Detail, "503") {
		t.Errorf("a list that ran out: %+v", v)
	}
	if v := verify(false, now.Add(25*time.Hour), c, web.URL, bad); v.Code != reason.CertificateRevoked {
		t.Errorf("what an old list revoked stays revoked: %+v", v)
	}
	up = true
	if v := verify(true, now.Add(25*time.Hour+time.Minute), c, web.URL, good); v.Code != reason.CertificateUnchecked {
		t.Errorf("the same old list again: %+v", v) // it is still the one that ran out
	}
}

func TestResponder(t *testing.T) {
	ca, other := newMaker(t, "Lantern"), newMaker(t, "Other")
	good, _ := ca.issue(t, laptop("good"))
	bad, _ := ca.issue(t, laptop("bad"))
	status, asked := map[string]int{good.SerialNumber.String(): ocsp.Good, bad.SerialNumber.String(): ocsp.Revoked}, 0
	signer := ca
	answer := func(serial *big.Int) []byte {
		state, ok := status[serial.String()]
		if !ok {
			state = ocsp.Unknown
		}
		out, err := ocsp.CreateResponse(signer.cert, signer.cert, ocsp.Response{Status: state, SerialNumber: serial,
			ThisUpdate: now.Add(-time.Minute), NextUpdate: now.Add(time.Hour), RevokedAt: now.Add(-time.Hour)},
			signer.key)
		if err != nil {
			t.Error(err)
		}
		return out
	}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		data, _ := io.ReadAll(r.Body)
		question, err := ocsp.ParseRequest(data)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		w.Write(answer(question.SerialNumber))
	}))
	defer web.Close()
	verify := func(hard bool, c *Checker, staple []byte, leaf *x509.Certificate) Verdict {
		trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: c, Hard: hard, OCSP: web.URL}
		return trust.Verify(context.Background(), []*x509.Certificate{leaf}, staple, now)
	}
	c := NewChecker()
	for range 3 {
		if v := verify(true, c, nil, good); v.Code != reason.OK || !strings.Contains(v.Revocation,
			"not revoked, by responder") {
			t.Errorf("good: %+v", v)
		}
		if v := verify(true, c, nil, bad); v.Code != reason.CertificateRevoked || !strings.Contains(v.Detail,
			"by responder") {
			t.Errorf("bad: %+v", v)
		}
	}
	if asked != 2 {
		t.Errorf("asked %d times about two certificates", asked)
	}
	stranger, _ := ca.issue(t, laptop("stranger"))
	if v := verify(true, c, nil, stranger); v.Code != reason.CertificateUnchecked || !strings.Contains(v.Detail,
		"does not know") {
		t.Errorf("unknown to the responder: %+v", v)
	}
	signer = other
	if v := verify(true, NewChecker(), nil, good); v.Code != reason.CertificateUnchecked {
		t.Errorf("an answer signed by somebody else: %+v", v)
	}
	web.Close()
	if v := verify(true, NewChecker(), nil, good); v.Code != reason.CertificateUnchecked {
		t.Errorf("no responder, hard: %+v", v)
	}
	if v := verify(false, NewChecker(), nil, good); v.Code != reason.OK || !strings.Contains(v.Revocation, "unknown") {
		t.Errorf("no responder, soft: %+v", v)
	}
}

func TestPairsAndFiles(t *testing.T) {
	ca, other := newMaker(t, "Lantern"), newMaker(t, "Other")
	leaf, key := ca.issue(t, Subject{Name: "radius", DNS: []string{"radius.example"}, Server: true})
	pair, err := Pair([]*x509.Certificate{ca.cert, leaf}, key) // in the wrong order
	if err != nil || pair.Leaf != leaf || len(pair.Certificate) != 1 {
		t.Errorf("pair %v %v", pair, err)
	}
	if _, err := Pair([]*x509.Certificate{leaf}, other.key); err == nil {
		t.Error("a key that does not belong is taken")
	}
	text, err := KeyPEM(key)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := ParseKey("noise\n" + text); err != nil ||
		!again.(interface{ Equal(crypto.PrivateKey) bool }).Equal(key) {
		t.Errorf("the key came back as %v: %v", again, err)
	}
	for _, legacy := range []bool{false, true} {
		data, err := WritePKCS12(key, []*x509.Certificate{leaf, ca.cert}, "harbour", legacy)
		if err != nil {
			t.Fatal(err)
		}
		if k, chain, err := ReadPKCS12(data, "harbour"); err != nil || len(chain) != 2 || !chain[0].Equal(leaf) ||
			!k.(interface{ Equal(crypto.PrivateKey) bool }).Equal(key) {
			t.Errorf("PKCS #12 came back as %v: %v", chain, err)
		}
		if _, _, err := ReadPKCS12(data, "wrong"); err == nil || !strings.Contains(err.Error(),
			"password does not open") {
			t.Errorf("a wrong password: %v", err)
		}
	}
	request, err := Request(Subject{Name: "radius", DNS: []string{"radius.example"}}, key)
	block, _ := pem.Decode([]byte(request))
	if err != nil || block == nil || block.Type != "CERTIFICATE REQUEST" {
		t.Errorf("request %s: %v", request, err)
	}
	for _, wrong := range []string{"", "nonsense", "-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----"} {
		if _, err := ParsePEM(wrong); err == nil {
			t.Errorf("%q is taken for certificates", wrong)
		}
		if _, err := ParseKey(wrong); err == nil {
			t.Errorf("%q is taken for a key", wrong)
		}
	}
	if list, err := ParsePEM(PEM(leaf, ca.cert)); err != nil || len(list) != 2 {
		t.Errorf("PEM came back as %v: %v", list, err)
	}
	if _, err := NewKey("dsa"); err == nil {
		t.Error("there are DSA keys")
	}
}

func FuzzIdentity(f *testing.F) {
	ca := newMaker(f, "Lantern")
	leaf, _ := ca.issue(f, Subject{Name: "x", UPN: []string{"s.lodge@x"}, DNS: []string{"a.example"}, Client: true})
	f.Add(leaf.Raw)
	f.Fuzz(func(t *testing.T, der []byte) {
		if c, err := x509.ParseCertificate(der); err == nil {
			Identity(c, []string{FromUPN, FromDNS, FromEmail, FromURI, FromSubject})
			Facts(c)
			Describe(c)
		}
	})
}
