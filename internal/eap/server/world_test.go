package server

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"testing"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/eap/supplicant"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/mschap"
)

const (
	personName = "s.lodge"
	password   = "gangway-and-rope"
)

// asker knows one person, and takes every certificate of one authority.
type asker struct {
	expired, changed bool
	record           facts.EAP
	method           string
	name             string
	code             reason.Code
	detail           string
	settled          int
	admit            bool
	computer         string
	roots            *x509.CertPool
	resumable        bool
	// question is what is asked after a clear password; second are the password and the answer.
	question string
	second   []string
}

func (a *asker) Method(name string)           { a.method = name }
func (a *asker) Record() *facts.EAP           { return &a.record }
func (a *asker) Fail(c reason.Code, d string) { a.code, a.detail = c, d }

func (a *asker) Settle(proofs ...proof.Proof) bool {
	a.settled++
	a.name, a.computer = "", ""
	for _, p := range proofs {
		if c := p.Claim(); c.Subject == proof.Machine {
			a.computer = c.Inner
		} else {
			a.name = c.Inner
		}
		a.method = p.Method()
	}
	return a.admit
}

// claim is a right credential of somebody.
func claim(who proof.Subject, name string) *proof.Claim {
	c := &proof.Claim{Inner: name, Subject: who, Person: &facts.Person{Name: name, State: reason.OK}}
	if who == proof.Machine {
		c.Person.Kind = facts.Computer
	}
	c.Right()
	return c
}

func (a *asker) check(who proof.Subject, name string, ok bool) (*proof.Claim, reason.Code) {
	switch {
	case name != personName:
		a.code = reason.PersonUnknown
	case !ok:
		a.code = reason.PasswordWrong
	default:
		a.code = reason.OK
		return claim(who, name), a.code
	}
	return nil, a.code
}

func (a *asker) Password(_ context.Context, who proof.Subject, name, clear string) (*proof.Claim, reason.Code) {
	return a.check(who, name, clear == password)
}

// Asked asks whoever is to give a code, and says the same to everybody.
func (a *asker) Asked(ctx context.Context, who proof.Subject, name, clear string) (*proof.Claim, string) {
	c, _ := a.Password(ctx, who, name, clear)
	return c, a.question
}

func (a *asker) Second(_ context.Context, password, typed string) {
	a.second = []string{password, typed}
}

func (a *asker) CHAP(_ context.Context, who proof.Subject, name string, r CHAP) (*proof.Claim, reason.Code) {
	sum := mschap.CHAP(r.Identifier, password, r.Challenge)
	return a.check(who, name, bytes.Equal(sum[:], r.Response))
}

func (a *asker) MSCHAP(_ context.Context, who proof.Subject, name string, r MSCHAP) (*proof.Claim, mschap.Hash,
	reason.Code) {
	hash := mschap.NTHash(password)
	if a.changed {
		hash = mschap.NTHash(nextPassword)
	}
	c, code := a.check(who, name, hash.V1(r.Challenge) == r.NT)
	if code == reason.OK && a.expired && !a.changed {
		c, a.code = nil, reason.PasswordExpired
	}
	return c, hash.Again(), a.code
}

// nextPassword is the only new password that is taken.
const nextPassword = "capstan-and-rope"

func (a *asker) ChangePassword(_ context.Context, _ proof.Subject, name string, change mschap.Change) reason.Code {
	want := mschap.NewChange(password, nextPassword, personName, [16]byte{})
	// the old hash, hidden by the new one
	if a.code = reason.PasswordRejected; name == personName && change.Hash == want.Hash {
		a.changed, a.code = true, reason.OK
	}
	return a.code
}

func (a *asker) Certificate(_ context.Context, who proof.Subject, state *tls.ConnectionState) (*proof.Claim,
	reason.Code) {
	leaf := state.PeerCertificates[0]
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: a.roots,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
		a.code, a.detail = reason.CertificateUntrusted, err.Error()
		return nil, a.code
	}
	a.code = reason.OK
	return claim(who, leaf.Subject.CommonName), reason.OK
}

func (a *asker) Resume(_ context.Context, before []proof.Before) (out []*proof.Claim) {
	if !a.resumable {
		return nil
	}
	for _, p := range before {
		out = append(out, claim(p.Subject, p.Inner))
	}
	a.code = reason.OK
	return out
}

// authority issues certificates for the test.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	pool *x509.CertPool
}

func newAuthority(t testing.TB, name string) *authority {
	t.Helper()
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	a := &authority{key: key, pool: x509.NewCertPool()}
	a.cert, _ = x509.ParseCertificate(der)
	a.pool.AddCert(a.cert)
	return a
}

func (a *authority) issue(t testing.TB, name string, usage x509.ExtKeyUsage) *tls.Certificate {
	t.Helper()
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	template := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: name},
		DNSNames: []string{name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		ExtKeyUsage: []x509.ExtKeyUsage{usage}, KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, template, a.cert, &key.PublicKey, a.key)
	if err != nil {
		t.Fatal(err)
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// world is one server with everything allowed.
type world struct {
	authority *authority
	settings  *Settings
	sessions  *Sessions
	fragment  int
}

var every = []string{"eap-tls", "peap-mschapv2", "peap-gtc", "peap-tls", "ttls-pap", "ttls-chap", "ttls-mschap",
	"ttls-mschapv2", "ttls-md5", "ttls-gtc", "ttls-tls", "teap-mschapv2", "teap-tls", "teap-pap",
	"eap-mschapv2", "eap-gtc", "eap-md5"}

func newWorld(t testing.TB) *world {
	ca := newAuthority(t, "Lantern test authority")
	return &world{authority: ca, sessions: NewSessions(100), fragment: 1020, settings: &Settings{Methods: every,
		Binding: BindingOptional, Resume: time.Hour, Machine: ProveUser, Authority: "tollgate",
		TLS: &tls.Config{Certificates: []tls.Certificate{*ca.issue(t, "radius.lanternferries.example",
			x509.ExtKeyUsageServerAuth)}, MinVersion: tls.VersionTLS10}, ServerName: "radius"}}
}

func (w *world) asker() *asker { return &asker{admit: true, resumable: true, roots: w.authority.pool} }

func (w *world) peer(t testing.TB, method string) *supplicant.Settings {
	return &supplicant.Settings{Method: method, Identity: personName, Outer: "anonymous", Password: password,
		Roots: w.authority.pool, ServerName: "radius.lanternferries.example",
		Certificate: w.authority.issue(t, personName, x509.ExtKeyUsageClientAuth), Fragment: w.fragment}
}

var errSilence = errors.New("the server discards")

// run lets a peer talk to a server until the end.
func (w *world) run(t testing.TB, a *asker, s *supplicant.Settings) (Answer, *supplicant.Peer, error) {
	t.Helper()
	c := New(w.settings, w.sessions, a, w.fragment)
	defer c.Close()
	p, err := supplicant.New(s)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	packet := p.Hello()
	for range 300 {
		answer := c.Take(context.Background(), packet)
		if answer.Discard {
			return answer, p, errSilence
		}
		if packet, err = p.Respond(answer.Packet); err != nil || answer.End {
			return answer, p, err
		}
	}
	t.Fatal("the conversation does not end")
	return Answer{}, nil, nil
}
