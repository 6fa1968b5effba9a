package server

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/base/tlsversion"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/eap/tunnel"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
)

// phase is what happens inside a tunnel. Both return a step whose data is what to say inside; no data and no end
// means that there is nothing to say, so that the peer is asked to go on.
type phase interface {
	begin(ctx context.Context, resumed bool) step
	take(ctx context.Context, plain []byte) step
}

// tlsMethod carries TLS in EAP (RFC 5216 section 2.1, RFC 9190): EAP-TLS itself, and the tunnel of PEAP, TTLS and TEAP.
type tlsMethod struct {
	l       *layer
	c       *Conversation
	kind    eap.Type
	inside  family
	version byte
	tunnel  *tunnel.Tunnel
	in      eap.Assembly
	out     eap.Outgoing
	state   tlsState
	phase   phase
	// resumed is the session that the peer came back with.
	resumed *session
	msk     []byte
	// outerTLVs are those of both sides in TEAP, which its crypto-binding covers.
	outerTLVs []byte
	// claim is whom the certificate of the peer names, and certCode what became of it. crypto/tls shows the certificate
	// before the peer has proven that it holds the key, so the claim is finished only behind the whole handshake.
	claim    *proof.Claim
	certCode reason.Code
	// again is whom a resumed session proved; proofs are who is proven, by this handshake or that session.
	again  []*proof.Claim
	proofs []proof.Proof
	// sent counts octets of flights, for the notes.
	first bool
}

type tlsState int

const (
	shaking   tlsState = iota
	awaitAck           // the tunnel is up, and the peer acknowledges our last flight before anything else is said
	inTunnel           // the phase inside is under way
	finishing          // all is proven; the peer acknowledges our last message
	failing            // the peer acknowledges an alert
)

func newTLS(l *layer, kind eap.Type, inside family) method {
	m := &tlsMethod{l: l, c: l.c, kind: kind, inside: inside, first: true}
	switch kind {
	case eap.PEAP:
		m.phase = &peapPhase{m: m}
	case eap.TTLS:
		m.phase = &ttlsPhase{m: m}
	case eap.TEAP:
		m.version, m.phase = 1, &teapPhase{m: m}
	}
	return m
}

// name is EAP-TLS in full: eap-tls, peap-tls and so on.
// name is the name of EAP-TLS, outside or inside of a tunnel, or of the tunnel.
func (m *tlsMethod) name() string {
	if m.kind != eap.TLS {
		return string(map[eap.Type]family{eap.PEAP: insidePEAP, eap.TTLS: insideTTLS, eap.TEAP: insideTEAP}[m.kind])
	}
	if m.inside == outside {
		return "eap-tls"
	}
	return string(m.inside) + "-tls"
}

func (m *tlsMethod) begin() []byte {
	m.c.asker.Method(m.name()) // of a tunnel, until it is known what is inside
	f := eap.Fragment{Version: m.version, Start: true}
	if m.kind == eap.TEAP {
		f.Outer = eap.TLV{Type: eap.TLVAuthorityID, Value: []byte(m.c.settings.Authority)}.Append(nil)
		m.outerTLVs = f.Outer
	}
	return f.Append(nil)
}

func (m *tlsMethod) respond(ctx context.Context, data []byte) step {
	f, err := eap.ParseFragment(data)
	switch {
	case errors.Is(err, eap.ErrTooLong):
		return m.c.fail(reason.EAPTooLong, "%v", err)
	case err != nil:
		return m.c.fail(reason.EAPMalformed, "%v", err)
	case f.Version != m.version && !(m.kind == eap.TLS):
		return m.c.fail(reason.EAPMalformed, "version %d of %s, we speak %d", f.Version, m.kind, m.version)
	case m.out.Left() > 0:
		if len(f.Data) > 0 || f.More {
			return m.c.fail(reason.EAPMalformed, "TLS data where a fragment was to be acknowledged")
		}
		return m.fragment()
	case len(f.Data) == 0 && !f.More && !m.in.Pending():
		return m.acknowledged(ctx)
	}
	if m.kind == eap.TEAP && m.tunnel == nil {
		m.outerTLVs = append(slices.Clone(m.outerTLVs), f.Outer...)
	}
	m.c.pending -= m.in.Len()
	whole, err := m.in.Add(f)
	m.c.pending += m.in.Len()
	switch {
	case errors.Is(err, eap.ErrTooLong):
		return m.c.fail(reason.EAPTooLong, "%v", err)
	case err != nil:
		return m.c.fail(reason.EAPMalformed, "%v", err)
	case whole == nil:
		return step{data: eap.Fragment{Version: m.version}.Append(nil)}
	}
	return m.message(ctx, whole)
}

// size leaves room for the records and headers of the tunnel around.
func (m *tlsMethod) size() int {
	if m.inside != outside {
		return max(m.c.size-100, 64)
	}
	return m.c.size
}

func (m *tlsMethod) fragment() step {
	f := m.out.Next(m.size())
	f.Version = m.version
	return step{data: f.Append(nil)}
}

func (m *tlsMethod) send(message []byte) step {
	m.out = eap.NewOutgoing(message)
	return m.fragment()
}

// acknowledged works on an empty response.
func (m *tlsMethod) acknowledged(ctx context.Context) step {
	switch m.state {
	case awaitAck:
		return m.enter(ctx, nil)
	case inTunnel:
		return m.inner(m.phase.take(ctx, nil))
	case finishing:
		return m.c.succeeded(m.msk, m.proofs...)
	case failing:
		return failed
	}
	return m.c.fail(reason.EAPMalformed, "an empty message during the TLS handshake")
}

// message works on a whole message of TLS records.
func (m *tlsMethod) message(ctx context.Context, records []byte) step {
	switch m.state {
	case shaking:
		return m.handshake(ctx, records)
	case failing:
		return failed
	}
	plain, err := m.tunnel.Read(records)
	if err != nil {
		return m.broken(nil, err)
	}
	if len(plain) == 0 && m.state != finishing { // TLS spoke for itself
		return m.acknowledged(ctx)
	}
	if m.state != inTunnel {
		if m.state == awaitAck && m.kind == eap.TTLS { // it may go on at once with what it has to say
			m.state = inTunnel
			if s := m.phase.begin(ctx, false); s.end {
				return s
			}
			return m.inner(m.phase.take(ctx, plain))
		}
		return m.c.fail(reason.EAPMalformed, "%d octets inside the tunnel where none were expected", len(plain))
	}
	return m.inner(m.phase.take(ctx, plain))
}

func (m *tlsMethod) handshake(ctx context.Context, records []byte) step {
	if m.tunnel == nil {
		if m.c.settings.TLS == nil {
			return m.c.fail(reason.TLSNoCertificate, "")
		}
		m.tunnel = tunnel.Server(m.config(), m.c.settings.WithoutEMS)
		m.c.tunnels = append(m.c.tunnels, m.tunnel)
		m.c.peer("TLS hello, %d octets", len(records))
	}
	out, done, err := m.tunnel.Handshake(records)
	switch {
	case err != nil:
		return m.broken(out, err)
	case done:
		return m.up(ctx, out)
	}
	if m.first {
		m.first = false
		m.c.server("server hello and certificate %s, %d octets in %d fragments", m.c.settings.ServerName, len(out),
			(len(out)+m.size()-1)/m.size())
	}
	return m.send(out)
}

// config is the TLS configuration of this conversation alone.
func (m *tlsMethod) config() *tls.Config {
	config := m.c.settings.TLS.Clone()
	if m.kind == eap.TLS {
		config.ClientAuth = tls.RequireAnyClientCert
		config.VerifyConnection = func(state tls.ConnectionState) error {
			if m.claim, m.certCode = m.c.asker.Certificate(m.c.ctx, m.l.subject, &state); m.certCode != reason.OK {
				return fmt.Errorf("the certificate is refused: %s", m.certCode)
			}
			return nil
		}
	}
	m.c.sessions.attach(config, m)
	return config
}

// up works on a completed handshake; out is our last flight, which may be empty.
func (m *tlsMethod) up(ctx context.Context, out []byte) step {
	state := m.tunnel.State()
	if m.inside == outside {
		record := m.c.asker.Record()
		record.TLS, record.Suite, record.Server = tls.VersionName(state.Version),
			tls.CipherSuiteName(state.CipherSuite), m.c.settings.ServerName
		record.Resumed = state.DidResume
	}
	how := "tunnel up"
	if state.DidResume {
		how = "session resumed"
	}
	m.c.server("%s: %s, %s", how, tls.VersionName(state.Version), tls.CipherSuiteName(state.CipherSuite))
	var err error
	if m.msk, err = m.tunnel.SessionKey(m.kind); err != nil {
		if errors.Is(err, tunnel.ErrNoExtendedMasterSecret) {
			return m.c.fail(reason.TLSMasterSecret, "")
		}
		return m.c.fail(reason.TLSFailed, "%v", err)
	}
	if !state.DidResume {
		m.resumed = nil // offered, and not taken
	}
	if m.resumed != nil && m.kind != eap.TLS {
		for i, claim := range m.again {
			m.proofs = append(m.proofs, claim.Finish(m.resumed.before[i].Method))
		}
		return m.enter(ctx, out)
	}
	if m.kind == eap.TLS {
		m.proofs = []proof.Proof{m.claim.Finish(m.name())}
		return m.finish(state.Version, out)
	}
	if len(out) > 0 && state.Version < tls.VersionTLS13 {
		m.state = awaitAck
		return m.send(out)
	}
	return m.enter(ctx, out)
}

// finish ends EAP-TLS, and a resumed TTLS: protected by a commitment octet under TLS 1.3 (RFC 9190 section 2.1.1).
func (m *tlsMethod) finish(version uint16, out []byte) step {
	if s := m.c.succeeded(nil, m.proofs...); !s.ok() {
		return s
	}
	if m.inside == outside {
		if m.kind == eap.TLS && !m.c.asker.Settle(m.proofs...) {
			return failed
		}
		m.c.sessions.proven(m, m.proofs)
	}
	if version >= tls.VersionTLS13 {
		commitment, err := m.tunnel.Write([]byte{0})
		if err != nil {
			return m.c.fail(reason.TLSFailed, "%v", err)
		}
		out = append(out, commitment...)
	}
	if len(out) == 0 {
		return m.c.succeeded(m.msk, m.proofs...)
	}
	m.state = finishing
	return m.send(out)
}

// enter begins the phase inside the tunnel, behind what TLS still has to say.
func (m *tlsMethod) enter(ctx context.Context, out []byte) step {
	m.state = inTunnel
	s := m.phase.begin(ctx, m.resumed != nil)
	if s.end && !s.ok() {
		return s
	}
	if s.end { // TTLS, resumed
		return m.finish(m.tunnel.State().Version, out)
	}
	if len(s.data) == 0 {
		return m.send(out)
	}
	records, err := m.tunnel.Write(s.data)
	if err != nil {
		return m.c.fail(reason.TLSFailed, "%v", err)
	}
	return m.send(append(out, records...))
}

// inner encrypts what the phase wants to say, or ends with it.
func (m *tlsMethod) inner(s step) step {
	if s.silent || s.end {
		if s.ok() {
			m.c.sessions.proven(m, s.proofs)
			if s.msk == nil {
				s.msk = m.msk
			}
		}
		return s
	}
	if len(s.data) == 0 {
		return m.send(nil)
	}
	records, err := m.tunnel.Write(s.data)
	if err != nil {
		return m.c.fail(reason.TLSFailed, "%v", err)
	}
	return m.send(records)
}

// broken says why TLS failed, and sends our alert if there is one.
func (m *tlsMethod) broken(out []byte, err error) step {
	if m.certCode == "" || m.certCode == reason.OK {
		code, detail := Classify(err)
		m.c.asker.Fail(code, detail)
		if _, theirs := tunnel.Alert(err); theirs {
			m.c.peer("TLS alert %s", detail)
			return failed
		}
	}
	m.c.server("TLS alert: %s", tlsversion.Named(err))
	if len(out) == 0 {
		return failed
	}
	m.state = failing
	return m.send(out)
}

// Alerts of TLS (RFC 8446 section 6) that say whose fault it is.
const (
	alertHandshake   = 40
	alertBad         = 42
	alertUnsupported = 43
	alertRevoked     = 44
	alertExpired     = 45
	alertUnknown     = 46
	alertUnknownCA   = 48
	alertAccess      = 49
	alertVersion     = 70
	alertInsecure    = 71
	alertInternal    = 80
)

var alertNames = map[byte]string{
	0: "close_notify", 10: "unexpected_message", 20: "bad_record_mac", alertHandshake: "handshake_failure",
	alertBad: "bad_certificate", alertUnsupported: "unsupported_certificate",
	alertRevoked: "certificate_revoked", alertExpired: "certificate_expired", alertUnknown: "certificate_unknown",
	47: "illegal_parameter", alertUnknownCA: "unknown_ca",
	alertAccess: "access_denied", 50: "decode_error", 51: "decrypt_error", alertVersion: "protocol_version",
	alertInsecure: "insufficient_security", alertInternal: "internal_error",
	90: "user_canceled", 109: "missing_extension", 112: "unrecognized_name", 116: "certificate_required",
}

// Classify tells whose fault an error of TLS is.
func Classify(err error) (reason.Code, string) {
	if alert, ok := tunnel.Alert(err); ok {
		name := alertNames[alert]
		if name == "" {
			name = fmt.Sprintf("number %d", alert)
		}
		switch alert {
		case alertBad, alertUnsupported, alertExpired, alertUnknown, alertUnknownCA, alertRevoked:
			return reason.TLSDistrust, name
		case alertInternal:
			return reason.TLSDistrust, name + ", which common supplicants send if the name in our certificate is not " +
				"the one they expect"
		case alertVersion, alertInsecure, alertHandshake:
			return reason.TLSNoCommon, name
		}
		return reason.TLSAlert, name
	}
	detail := tlsversion.Named(err)
	switch {
	case strings.Contains(detail, "didn't provide a certificate"):
		return reason.CertificateMissing, ""
	case strings.Contains(detail, "unsupported versions") || strings.Contains(detail, "no cipher suite") ||
		strings.Contains(detail, "no key exchanges") || strings.Contains(detail, "inappropriate protocol fallback"):
		return reason.TLSNoCommon, detail
	}
	return reason.TLSFailed, detail
}
