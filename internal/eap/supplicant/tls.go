package supplicant

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"tollgate.example/key/internal/eap/tunnel"
	"tollgate.example/key/internal/wire/eap"
)

// phase is the inside of a tunnel: it answers what the server says there; with nothing said it may begin.
type phase interface {
	take(plain []byte) ([]byte, error)
}

// tlsMethod carries TLS in EAP.
type tlsMethod struct {
	p       *Peer
	kind    eap.Type
	version byte
	cert    *tls.Certificate
	tunnel  *tunnel.Tunnel
	in      eap.Assembly
	out     eap.Outgoing
	up      bool
	broken  error
	phase   phase
	key     []byte
	outer   []byte
	inside  bool
}

func newTLS(p *Peer, kind eap.Type, inner string, s *Settings) *tlsMethod {
	m := &tlsMethod{p: p, kind: kind}
	switch kind {
	case eap.TLS:
		m.cert = s.Certificate
	case eap.PEAP:
		m.phase = &peap{m: m, layer: innerLayer(p, inner)}
	case eap.TTLS:
		m.phase = &ttls{m: m, inner: inner}
	case eap.TEAP:
		m.version, m.phase = 1, &teap{m: m, inner: inner}
	}
	return m
}

// innerLayer makes the EAP inside a tunnel.
func innerLayer(p *Peer, inner string) *layer {
	l := &layer{p: p, name: p.settings.Identity}
	switch inner {
	case "mschapv2":
		l.kind, l.make = eap.MSCHAPv2, func() method { return &mschapv2{p: p, name: l.name} }
	case "gtc":
		l.kind, l.make = eap.GTC, func() method { return &gtc{p: p} }
	case "md5":
		l.kind, l.make = eap.MD5, func() method { return &md5{p} }
	case "tls":
		l.kind, l.make = eap.TLS, func() method {
			m := newTLS(p, eap.TLS, "", p.settings)
			m.inside = true
			return m
		}
	}
	return l
}

// Versions are the versions of TLS by what people call them; "" leaves the choice to both sides.
var Versions = map[string]uint16{"": 0, "1.0": tls.VersionTLS10, "1.1": tls.VersionTLS11, "1.2": tls.VersionTLS12,
	"1.3": tls.VersionTLS13}

// Groups are the key exchanges that a device offers, those of supplicants in use today.
var Groups = []tls.CurveID{tls.X25519, tls.CurveP256, tls.CurveP384}

func (m *tlsMethod) config() *tls.Config {
	s := m.p.settings
	config := &tls.Config{InsecureSkipVerify: true, MinVersion: s.MinTLS, MaxVersion: s.MaxTLS, ServerName: "eap",
		Time: s.Now}
	config.CurvePreferences, config.CipherSuites = Groups, s.Suites
	if s.KeyLog != nil {
		config.KeyLogWriter = s.KeyLog
	}
	if !m.inside {
		config.ClientSessionCache = s.Sessions
	}
	config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
		if m.cert == nil {
			return &tls.Certificate{}, nil
		}
		return m.cert, nil
	}
	config.VerifyConnection = m.verify
	return config
}

// verify checks the server's certificate as a careful supplicant does: the authority, and the name if one is set.
func (m *tlsMethod) verify(state tls.ConnectionState) error {
	s := m.p.settings
	m.p.Result.Chain = state.PeerCertificates
	if len(state.PeerCertificates) == 0 {
		return errors.New("the server showed no certificate")
	}
	leaf := state.PeerCertificates[0]
	if state.DidResume { // it was checked when the session began
		return nil
	}
	m.p.say("server", "certificate %s, issued by %s, until %s", leaf.Subject, leaf.Issuer,
		leaf.NotAfter.UTC().Format(time.DateOnly))
	if s.Roots == nil {
		m.p.say("peer", "takes any certificate")
		return nil
	}
	options := x509.VerifyOptions{Roots: s.Roots, Intermediates: x509.NewCertPool(), DNSName: s.ServerName}
	if s.Now != nil {
		options.CurrentTime = s.Now()
	}
	for _, cert := range state.PeerCertificates[1:] {
		options.Intermediates.AddCert(cert)
	}
	if _, err := leaf.Verify(options); err != nil {
		m.p.say("peer", "does not trust it: %v", err)
		return err
	}
	return nil
}

func (m *tlsMethod) respond(packet eap.Packet) ([]byte, error) {
	f, err := eap.ParseFragment(packet.Data)
	if err != nil {
		return nil, err
	}
	if f.Start {
		m.outer = append(m.outer, f.Outer...)
		m.tunnel = tunnel.Client(m.config(), false)
		m.p.tunnels = append(m.p.tunnels, m.tunnel)
		return m.handshake(nil)
	}
	if m.tunnel == nil {
		return nil, errors.New("TLS data before the start")
	}
	if m.out.Left() > 0 {
		return m.fragment(), nil
	}
	whole, err := m.in.Add(f)
	if err != nil {
		return nil, err
	}
	switch {
	case whole == nil || m.broken != nil:
		return m.send(nil), nil
	case !m.up:
		return m.handshake(whole)
	}
	return m.inner(whole)
}

func (m *tlsMethod) handshake(in []byte) ([]byte, error) {
	out, done, err := m.tunnel.Handshake(in)
	if err != nil {
		if _, theirs := tunnel.Alert(err); theirs {
			return m.alerted(err)
		}
		if len(out) == 0 {
			return nil, err
		}
		m.broken, m.p.Result.Fault = err, err.Error()
		m.p.say("peer", "TLS alert: %v", err)
		return m.send(out), nil
	}
	if !done {
		return m.send(out), nil
	}
	m.up = true
	state := m.tunnel.State()
	r := &m.p.Result
	r.TLS, r.Suite, r.Resumed = tls.VersionName(state.Version), tls.CipherSuiteName(state.CipherSuite), r.Resumed ||
		state.DidResume
	m.p.say("peer", "tunnel up: %s, %s", r.TLS, r.Suite)
	if m.key, err = m.tunnel.SessionKey(m.kind); err != nil {
		return nil, err
	}
	if !m.inside {
		r.MSK = m.key
	}
	if m.kind == eap.TTLS && len(out) == 0 && !state.DidResume {
		return m.write(m.phase.take(nil))
	}
	return m.send(out), nil
}

// alerted acknowledges an alert of the server, so that its EAP-Failure can follow (RFC 5216 section 2.1.3).
func (m *tlsMethod) alerted(err error) ([]byte, error) {
	alert, theirs := tunnel.Alert(err)
	if !theirs {
		return nil, err
	}
	m.broken = err
	m.p.Result.Fault = fmt.Sprintf("the server ended TLS with alert %d (%v)", alert, err)
	m.p.say("server", "TLS alert %d", alert)
	return m.send(nil), nil
}

func (m *tlsMethod) inner(records []byte) ([]byte, error) {
	plain, err := m.tunnel.Read(records)
	if err != nil {
		return m.alerted(err)
	}
	if m.kind == eap.TLS || m.kind == eap.TTLS && m.p.Result.Resumed {
		if len(plain) == 1 && plain[0] == 0 && !m.inside {
			m.p.Result.Protected = true
		}
		return m.send(nil), nil
	}
	if len(plain) == 0 && m.kind != eap.TTLS {
		return m.send(nil), nil
	}
	return m.write(m.phase.take(plain))
}

func (m *tlsMethod) write(plain []byte, err error) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	if hook := m.p.settings.Hooks.Inside; hook != nil && !m.inside {
		plain = hook(plain)
	}
	if len(plain) == 0 {
		return m.send(nil), nil
	}
	records, err := m.tunnel.Write(plain)
	if err != nil {
		return nil, err
	}
	return m.send(records), nil
}

func (m *tlsMethod) send(message []byte) []byte {
	if hook := m.p.settings.Hooks.Flight; hook != nil && len(message) > 0 {
		message = hook(m.inside, message)
	}
	m.out = eap.NewOutgoing(message)
	return m.fragment()
}

func (m *tlsMethod) fragment() []byte {
	size := m.p.settings.Fragment
	if size <= 0 {
		size = 1000
	}
	if m.inside {
		size = max(size-100, 64)
	}
	f := m.out.Next(size)
	f.Version = m.version
	return f.Append(nil)
}
