package conversation

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
	"tollgate.example/key/internal/supplicant"
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
	machine          bool
	computer         string
	roots            *x509.CertPool
	resumable        bool
	anew             bool
}

func (a *asker) Method(name string)           { a.method = name }
func (a *asker) Machine(is bool)              { a.machine = is }
func (a *asker) Record() *facts.EAP           { return &a.record }
func (a *asker) Settle() bool                 { a.settled++; return a.admit }
func (a *asker) Proven() Proven               { return Proven{Name: a.name, Method: a.method} }
func (a *asker) Holds(Proven) bool            { return !a.anew }
func (a *asker) Fail(c reason.Code, d string) { a.code, a.detail = c, d }

func (a *asker) check(name string, ok bool) reason.Code {
	a.name = name
	switch {
	case name != personName:
		a.code = reason.PersonUnknown
	case !ok:
		a.code = reason.PasswordWrong
	default:
		a.code = reason.OK
	}
	return a.code
}

func (a *asker) Password(_ context.Context, name, clear string) reason.Code {
	return a.check(name, clear == password)
}

func (a *asker) CHAP(_ context.Context, name string, id byte, challenge, response []byte) reason.Code {
	sum := mschap.CHAP(id, password, challenge)
	return a.check(name, bytes.Equal(sum[:], response))
}

func (a *asker) MSCHAP(_ context.Context, name string, challenge [8]byte, response [24]byte) (mschap.Hash, reason.Code) {
	hash := mschap.NTHash(password)
	if a.changed {
		hash = mschap.NTHash(nextPassword)
	}
	code := a.check(name, hash.V1(challenge) == response)
	if code == reason.OK && a.expired && !a.changed {
		a.code = reason.PasswordExpired
	}
	return hash.Again(), a.code
}

// nextPassword is the only new password that is taken.
const nextPassword = "capstan-and-rope"

func (a *asker) ChangePassword(_ context.Context, change mschap.Change) reason.Code {
	want := mschap.NewChange(password, nextPassword, personName, [16]byte{})
	if a.code = reason.PasswordRejected; change.Hash == want.Hash { // the old hash, hidden by the new one
		a.changed, a.code = true, reason.OK
	}
	return a.code
}

func (a *asker) Certificate(_ context.Context, state *tls.ConnectionState) reason.Code {
	leaf := state.PeerCertificates[0]
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: a.roots, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
		a.code, a.detail = reason.CertificateUntrusted, err.Error()
		return a.code
	}
	if a.machine {
		a.computer = leaf.Subject.CommonName
	} else {
		a.name = leaf.Subject.CommonName
	}
	a.code = reason.OK
	return reason.OK
}

func (a *asker) Resume(_ context.Context, p Proven) reason.Code {
	if !a.resumable {
		a.code = reason.PersonDisabled
		return a.code
	}
	a.name, a.method, a.code = p.Name, p.Method, reason.OK
	return reason.OK
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
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
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
	template := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), ExtKeyUsage: []x509.ExtKeyUsage{usage}, KeyUsage: x509.KeyUsageDigitalSignature}
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

var every = []string{"eap-tls", "peap-mschapv2", "peap-gtc", "peap-tls", "ttls-pap", "ttls-chap", "ttls-mschap", "ttls-mschapv2", "ttls-md5", "ttls-gtc", "ttls-tls", "teap-mschapv2", "teap-tls", "teap-pap", "eap-md5"}

func newWorld(t testing.TB) *world {
	ca := newAuthority(t, "Lantern test authority")
	return &world{authority: ca, sessions: NewSessions(100), fragment: 1020, settings: &Settings{Methods: every, Binding: BindingOptional, Resume: time.Hour, Machine: ProveUser, Authority: "tollgate",
		TLS: &tls.Config{Certificates: []tls.Certificate{*ca.issue(t, "radius.lanternferries.example", x509.ExtKeyUsageServerAuth)}, MinVersion: tls.VersionTLS10}, ServerName: "radius"}}
}

func (w *world) asker() *asker { return &asker{admit: true, resumable: true, roots: w.authority.pool} }

func (w *world) peer(t testing.TB, method string) *supplicant.Settings {
	return &supplicant.Settings{Method: method, Identity: personName, Outer: "anonymous", Password: password, Roots: w.authority.pool, ServerName: "radius.lanternferries.example",
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
