package certificate

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ocsp"

	"tollgate.example/key/internal/core/reason"
)

// signed issues a certificate from a template of its own.
func (m *maker) signed(t *testing.T, template *x509.Certificate) (*x509.Certificate, crypto.Signer) {
	t.Helper()
	key, _ := NewKey("p256")
	template.SerialNumber, template.NotBefore, template.NotAfter = serial(), now.Add(-time.Hour), now.AddDate(1, 0, 0)
	der, err := x509.CreateCertificate(rand.Reader, template, m.cert, key.Public(), m.key)
	if err != nil {
		t.Fatal(err)
	}
	made, _ := x509.ParseCertificate(der)
	return made, key
}

func response(t *testing.T, issuer, signer *x509.Certificate, key crypto.Signer, r ocsp.Response) []byte {
	t.Helper()
	if signer != issuer {
		r.Certificate = signer
	}
	out, err := ocsp.CreateResponse(issuer, signer, r, key)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// The peer chooses which answer it shows, so that answer is not asked before others, has to be recent, and must be
// signed by somebody who may.
func TestAStapledAnswerSparesNoQuestion(t *testing.T) {
	ca := newMaker(t, "Lantern")
	bad, badKey := ca.issue(t, laptop("bad"))
	revoked := response(t, ca.cert, ca.cert, ca.key, ocsp.Response{Status: ocsp.Revoked,
		SerialNumber: bad.SerialNumber, ThisUpdate: now, NextUpdate: now.Add(time.Hour), RevokedAt: now})
	asked := 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Write(revoked)
	}))
	defer web.Close()
	good := func(age time.Duration, signer *x509.Certificate, key crypto.Signer) []byte {
		return response(t, ca.cert, signer, key, ocsp.Response{Status: ocsp.Good, SerialNumber: bad.SerialNumber,
			ThisUpdate: now.Add(-age), NextUpdate: now.AddDate(0, 0, 7)})
	}
	responder, responderKey := ca.signed(t, &x509.Certificate{Subject: pkix.Name{CommonName: "responder"},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning}})
	trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker(), Hard: true, OCSP: web.URL}
	if v := trust.Verify(context.Background(), []*x509.Certificate{bad}, good(0, ca.cert, ca.key),
		now); v.Code != reason.CertificateRevoked || asked != 1 {
		t.Errorf("a good answer that the peer kept hides its revocation: %+v, asked %d times", v, asked)
	}
	alone := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker(), Hard: true}
	for name, c := range map[string]struct {
		staple []byte
		want   reason.Code
	}{
		"recent":                      {good(time.Minute, ca.cert, ca.key), reason.OK},
		"recent, by a responder":      {good(time.Minute, responder, responderKey), reason.OK},
		"of yesterday":                {good(24*time.Hour, ca.cert, ca.key), reason.CertificateUnchecked},
		"from the future":             {good(-time.Hour, ca.cert, ca.key), reason.CertificateUnchecked},
		"signed by the device itself": {good(time.Minute, bad, badKey), reason.CertificateUnchecked},
		"nonsense":                    {[]byte("nonsense"), reason.CertificateUnchecked},
		"revoked":                     {revoked, reason.CertificateRevoked},
	} {
		if v := alone.Verify(context.Background(), []*x509.Certificate{bad}, c.staple, now); v.Code != c.want {
			t.Errorf("%s: %+v, wanted %s", name, v, c.want)
		}
	}
}

func TestHardRefusesWhatNobodyAnswered(t *testing.T) {
	ca := newMaker(t, "Lantern")
	leaf, _ := ca.issue(t, laptop("s.lodge"))
	for _, trust := range []*Trust{{Hard: true}, {Hard: true, Listed: true, Responder: true}} {
		trust.Roots, trust.Checker = []*x509.Certificate{ca.cert}, NewChecker()
		if v := trust.Verify(context.Background(), []*x509.Certificate{leaf}, nil,
			now); v.Code != reason.CertificateUnchecked || !strings.Contains(v.Detail, "names a list or responder") {
			t.Errorf("%+v", v)
		}
		trust.Hard = false
		if v := trust.Verify(context.Background(), []*x509.Certificate{leaf}, nil, now); v.Code != reason.OK ||
			v.Revocation != "not checked" {
			t.Errorf("soft: %+v", v)
		}
	}
}

func TestIntermediatesAreChecked(t *testing.T) {
	ca := newMaker(t, "Lantern")
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Lantern"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(1, 0, 0), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	raw, err := x509.CreateCertificate(rand.Reader, root, root, ca.key.Public(), ca.key)
	if err != nil {
		t.Fatal(err)
	}
	ca.cert, _ = x509.ParseCertificate(raw)
	template := &x509.Certificate{Subject: pkix.Name{CommonName: "Lantern devices"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	middle, key := ca.signed(t, template)
	issuing := &maker{cert: middle, key: key}
	leaf, _ := issuing.issue(t, laptop("s.lodge"))
	ours, _ := CRL(ca.cert, ca.key, nil, now)
	revoking, _ := CRL(ca.cert, ca.key, []x509.RevocationListEntry{{SerialNumber: middle.SerialNumber,
		RevocationTime: now.Add(-time.Hour)}}, now)
	theirs, _ := CRL(middle, key, nil, now)
	dir := t.TempDir()
	file := func(name string, data []byte) string {
		path := filepath.Join(dir, name)
		os.WriteFile(path, data, 0o600)
		return path
	}
	a, b, c := file("ours", ours), file("revoking", revoking), file("theirs", theirs)
	for name, one := range map[string]struct {
		lists []string
		want  reason.Code
	}{"both": {[]string{a, c}, reason.OK}, "the leaf alone": {[]string{c}, reason.CertificateUnchecked},
		"a revoked intermediate": {[]string{b, c}, reason.CertificateRevoked}} {
		trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker(), Hard: true, CRLs: one.lists}
		if v := trust.Verify(context.Background(), []*x509.Certificate{leaf, middle}, nil, now); v.Code != one.want {
			t.Errorf("%s: %+v, wanted %s", name, v, one.want)
		}
	}
}

func TestListsOfAPartCountAsNone(t *testing.T) {
	ca := newMaker(t, "Lantern")
	const there = "http://lists.lanternferries.example/7.crl"
	leaf, _ := ca.signed(t, &x509.Certificate{Subject: pkix.Name{CommonName: "s.lodge"},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}, CRLDistributionPoints: []string{there}})
	point := func(d distribution) []pkix.Extension {
		value, err := asn1.Marshal(d)
		if err != nil {
			t.Fatal(err)
		}
		return []pkix.Extension{{Id: oidDistribution, Critical: true, Value: value}}
	}
	named := func(uri string) asn1.RawValue {
		name, _ := asn1.Marshal(asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 6, Bytes: []byte(uri)})
		full, _ := asn1.Marshal(asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: name})
		whole, _ := asn1.Marshal(asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: full})
		return asn1.RawValue{FullBytes: whole}
	}
	number, _ := asn1.Marshal(1)
	for name, c := range map[string]struct {
		extensions []pkix.Extension
		next       time.Duration
		want       reason.Code
	}{
		"whole":         {nil, time.Hour, reason.OK},
		"of ends":       {point(distribution{OnlyUsers: true}), time.Hour, reason.OK},
		"of this point": {point(distribution{Point: named(there)}), time.Hour, reason.OK},
		"of another point": {point(distribution{Point: named("http://lists.lanternferries.example/8.crl")}),
			time.Hour, reason.CertificateUnchecked},
		"of authorities": {point(distribution{OnlyOurs: true}), time.Hour, reason.CertificateUnchecked},
		"of attributes":  {point(distribution{OnlyAttribute: true}), time.Hour, reason.CertificateUnchecked},
		"indirect":       {point(distribution{Indirect: true}), time.Hour, reason.CertificateUnchecked},
		"of some reasons": {point(distribution{SomeReasons: asn1.BitString{Bytes: []byte{0x40}, BitLength: 2}}),
			time.Hour, reason.CertificateUnchecked},
		"a delta": {[]pkix.Extension{{Id: oidDelta, Critical: true, Value: number}}, time.Hour,
			reason.CertificateUnchecked},
		"an unknown extension": {[]pkix.Extension{{Id: asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 32473, 1},
			Critical: true, Value: number}}, time.Hour, reason.CertificateUnchecked},
		"that ran out": {nil, -time.Minute, reason.CertificateUnchecked},
		"a point of no reading": {[]pkix.Extension{{Id: oidDistribution, Critical: true, Value: []byte{0x30, 0x03,
			1}}}, time.Hour, reason.CertificateUnchecked},
	} {
		der, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(1),
			ThisUpdate: now.Add(-2 * time.Hour), NextUpdate: now.Add(c.next), ExtraExtensions: c.extensions}, ca.cert,
			ca.key)
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(t.TempDir(), "list")
		os.WriteFile(file, der, 0o600)
		trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker(), Hard: true, CRLs: []string{file}}
		if v := trust.Verify(context.Background(), []*x509.Certificate{leaf}, nil, now); v.Code != c.want {
			t.Errorf("%s: %+v, wanted %s", name, v, c.want)
		}
	}
}

// Whoever makes certificates does not choose which files of ours are read.
func TestACertificateNamesNoFiles(t *testing.T) {
	ca := newMaker(t, "Lantern")
	der, _ := CRL(ca.cert, ca.key, nil, now)
	file := filepath.Join(t.TempDir(), "list")
	os.WriteFile(file, der, 0o600)
	for _, where := range []string{"file:" + file, "file://" + file, file} {
		leaf, _ := ca.signed(t, &x509.Certificate{Subject: pkix.Name{CommonName: "x"},
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}, CRLDistributionPoints: []string{where},
			OCSPServer: []string{where}})
		trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker(), Hard: true, Listed: true,
			Responder: true}
		if v := trust.Verify(context.Background(), []*x509.Certificate{leaf}, nil,
			now); v.Code != reason.CertificateUnchecked || len(trust.Checker.lists) != 0 {
			t.Errorf("%s: %+v", where, v)
		}
	}
}

// One list that does not come keeps nobody waiting who gave up, and nobody who has a list that holds yet.
func TestASlowListIsWaitedForOnce(t *testing.T) {
	ca := newMaker(t, "Lantern")
	leaf, _ := ca.issue(t, laptop("s.lodge"))
	der, _ := CRL(ca.cert, ca.key, nil, now)
	slow, asked := make(chan struct{}), 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked > 1 {
			<-slow
		}
		io.Copy(w, strings.NewReader(string(der)))
	}))
	defer web.Close()
	defer close(slow)
	trust := &Trust{Roots: []*x509.Certificate{ca.cert}, Checker: NewChecker(), Hard: true, CRLs: []string{web.URL}}
	if v := trust.Verify(context.Background(), []*x509.Certificate{leaf}, nil, now); v.Code != reason.OK {
		t.Fatalf("%+v", v)
	}
	begun := time.Now()
	for range 20 {
		if v := trust.Verify(context.Background(), []*x509.Certificate{leaf}, nil,
			now.Add(2*time.Hour)); v.Code != reason.OK {
			t.Errorf("while the next list is fetched: %+v", v)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	if v := trust.Verify(ctx, []*x509.Certificate{leaf}, nil,
		now.Add(48*time.Hour)); v.Code != reason.CertificateUnchecked {
		t.Errorf("with a list that ran out: %+v", v)
	}
	if took := time.Since(begun); took > time.Second {
		t.Errorf("it took %v", took)
	}
}

// A responder that takes questions and is silent, and a list that does not come, hold up a bounded number; those beyond
// that get their answer, which is none, at once.
func TestFewWaitForASilentSource(t *testing.T) {
	ca := newMaker(t, "Lantern")
	cert, _ := ca.issue(t, laptop("one"))
	reached, release := make(chan struct{}, 2*maxWaiting), make(chan struct{})
	web := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		reached <- struct{}{}
		<-release
	}))
	defer web.Close()
	c := NewChecker()
	c.client.Timeout = time.Minute
	var waiting sync.WaitGroup
	for range maxWaiting {
		waiting.Go(func() { c.Ask(t.Context(), web.URL, cert, ca.cert, now) })
		waiting.Go(func() { c.List(t.Context(), web.URL+"/list", cert, ca.cert, now) })
	}
	for range maxWaiting + 1 { // each question, and the one fetch of the list
		<-reached
	}
	for {
		l := c.list(web.URL + "/list")
		l.mu.Lock()
		n := l.waiting
		l.mu.Unlock()
		if n == maxWaiting {
			break
		}
		time.Sleep(time.Millisecond)
	}
	begun := time.Now()
	for _, s := range []Status{c.Ask(t.Context(), web.URL, cert, ca.cert, now), c.List(t.Context(), web.URL+"/list",
		cert, ca.cert, now)} {
		if s.Known || s.Err == nil || !strings.Contains(s.Err.Error(), "wait for") {
			t.Errorf("one too many is told %s", s)
		}
	}
	if took := time.Since(begun); took > time.Second {
		t.Errorf("one too many waits %v", took)
	}
	close(release)
	waiting.Wait()
	if len(c.asking) != 0 || c.list(web.URL+"/list").waiting != 0 {
		t.Errorf("still counted as waiting: %v", c.asking)
	}
}

func FuzzList(f *testing.F) {
	ca := newMaker(f, "Lantern")
	for _, extra := range [][]pkix.Extension{nil, {{Id: oidDelta, Critical: true, Value: []byte{2, 1, 1}}},
		{{Id: oidDistribution, Critical: true, Value: []byte{0x30, 3, 0x81, 1, 0xff}}}} {
		der, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: now,
			NextUpdate: now.Add(time.Hour), ExtraExtensions: extra,
			RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: big.NewInt(7), RevocationTime: now}}},
			ca.cert, ca.key)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(der)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if list, err := parseList(data, now); err == nil {
			list.scope.covers(ca.cert)
			list.by(ca.cert)
		}
		pointNames(data)
	})
}

func FuzzAnswer(f *testing.F) {
	ca := newMaker(f, "Lantern")
	der, err := ocsp.CreateResponse(ca.cert, ca.cert, ocsp.Response{Status: ocsp.Good,
		SerialNumber: ca.cert.SerialNumber, ThisUpdate: now, NextUpdate: now.Add(time.Hour)}, ca.key)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(der)
	other, err := x509.ParseCertificate(ca.cert.Raw)
	if err != nil {
		f.Fatal(err)
	}
	other.SerialNumber = big.NewInt(4711)
	f.Fuzz(func(t *testing.T, data []byte) {
		readOCSP(data, "fuzz", ca.cert, ca.cert, now, stapleAge)
		if s := readOCSP(data, "fuzz", other, ca.cert, now, stapleAge); s.Known {
			t.Errorf("an answer about another certificate is taken: %s", s)
		}
	})
}
