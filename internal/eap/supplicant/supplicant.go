// Package supplicant is the peer's side of EAP: every method that Tollgate Key answers, as a device would do it. It
// serves `tollgate try`, the stand-ins and tests, and holds no socket.
package supplicant

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/wire/eap"
)

// Settings are what a person would type into a supplicant.
type Settings struct {
	// Method in full, such as peap-mschapv2, or mac for EAP-MD5 with the address as name and password.
	Method string
	// Identity is who signs in; Outer the name shown outside the tunnel, Identity if empty.
	Identity, Outer string
	Password        string
	// Code is what the person answers to a question after the password in EAP-GTC; nil sends the password again, as
	// devices do that keep it.
	Code func(question string) string
	// NewPassword is what an expired password is changed to; empty does not change it.
	NewPassword string
	Certificate *tls.Certificate
	// Roots are the authorities that the server certificate must come from; nil accepts any, as careless people do.
	Roots *x509.CertPool
	// ServerName must be in the server certificate, if it is set.
	ServerName string
	// Now is the device's clock, time.Now if nil.
	Now func() time.Time
	// MinTLS and MaxTLS bound the versions; 0 leaves them to crypto/tls.
	MinTLS, MaxTLS uint16
	// Suites are the cipher suites of TLS 1.2, nil for those of crypto/tls.
	Suites []uint16
	// Binding sends a crypto-binding in PEAP if the server does.
	Binding bool
	// Sessions keeps tickets for resumption, nil for none.
	Sessions tls.ClientSessionCache
	// Fragment is how many octets of TLS data go into one packet, 1000 if 0.
	Fragment int
	// MachineIdentity is the computer's name in TEAP, "" for none, and Machine its certificate; without one it is
	// proven by the inner method, with Password.
	Machine         *tls.Certificate
	MachineIdentity string
	// KeyLog receives the secrets of TLS, for looking into captures of tests.
	KeyLog interface{ Write([]byte) (int, error) }
	// Step is told what is said, if it is set.
	Step func(from, text string)
	// Hooks change what is said, for tests with devices that deviate.
	Hooks Hooks
}

// Hooks are called with what the peer is about to send, and return what is sent instead. Those that are nil change
// nothing.
type Hooks struct {
	// Packet is the whole EAP packet.
	Packet func(eap.Packet) []byte
	// Inside is what is said inside the tunnel, before it is encrypted; nil is an acknowledgement.
	Inside func(plain []byte) []byte
	// Flight are TLS records; inner tells that they are those of EAP-TLS inside a tunnel.
	Flight func(inner bool, records []byte) []byte
}

// Result is what a finished conversation left.
type Result struct {
	MSK     []byte
	TLS     string
	Suite   string
	Resumed bool
	// Chain is the server's certificate and what came with it.
	Chain []*x509.Certificate
	// Protected tells that success came under the tunnel's protection.
	Protected bool
	// Fault is why the device stopped.
	Fault string
}

// Peer is one conversation.
type Peer struct {
	settings *Settings
	layer    layer
	Result   Result
	tunnels  []interface{ Close() }
	over     bool
}

// New begins a conversation.
func New(s *Settings) (*Peer, error) {
	p := &Peer{settings: s}
	outer, inner, _ := strings.Cut(s.Method, "-")
	kind, known := map[string]eap.Type{"eap": 0, "peap": eap.PEAP, "ttls": eap.TTLS, "teap": eap.TEAP,
		"mac": eap.MD5}[outer]
	bare, tunnelled := map[string]eap.Type{"eap-md5": eap.MD5, "eap-gtc": eap.GTC, "eap-mschapv2": eap.MSCHAPv2,
		"mac": eap.MD5}[s.Method], true
	if s.Method == "eap-tls" {
		kind = eap.TLS
	} else if bare != 0 {
		kind, tunnelled = bare, false
	}
	if !known || kind == 0 {
		return nil, fmt.Errorf("%q is no EAP method", s.Method)
	}
	name := s.Outer
	if name == "" || !tunnelled {
		name = s.Identity
	}
	p.layer = layer{p: p, name: name, kind: kind, make: func() method {
		switch kind {
		case eap.MD5:
			return &md5{p: p}
		case eap.GTC:
			return &gtc{p: p}
		case eap.MSCHAPv2:
			return &mschapv2{p: p, name: name, outside: true}
		}
		return newTLS(p, kind, inner, s)
	}}
	return p, nil
}

func (p *Peer) say(from, format string, args ...any) {
	if p.settings.Step != nil {
		p.settings.Step(from, fmt.Sprintf(format, args...))
	}
}

// Close gives the conversation up.
func (p *Peer) Close() {
	for _, t := range p.tunnels {
		t.Close()
	}
}

// ErrRefused is returned for an EAP-Failure.
var ErrRefused = errors.New("the server answered with EAP-Failure")

// Hello is the first packet: the identity, unasked, as clients send it.
func (p *Peer) Hello() []byte {
	p.say("peer", "identity: %s", p.layer.name)
	return p.send(eap.Packet{Code: eap.Response, Identifier: 1, Type: eap.Identity, Data: []byte(p.layer.name)})
}

func (p *Peer) send(packet eap.Packet) []byte {
	if hook := p.settings.Hooks.Packet; hook != nil {
		return hook(packet)
	}
	return packet.Encode()
}

// Respond answers a packet. The answer is nil after Success; a Failure is an error.
func (p *Peer) Respond(data []byte) ([]byte, error) {
	packet, err := eap.Decode(data)
	if err != nil {
		return nil, err
	}
	switch packet.Code {
	case eap.Success:
		p.over = true
		p.say("server", "EAP-Success")
		return nil, nil
	case eap.Failure:
		p.over = true
		p.say("server", "EAP-Failure")
		return nil, ErrRefused
	case eap.Request:
		reply, err := p.layer.answer(packet)
		if err != nil {
			return nil, err
		}
		return p.send(reply), nil
	}
	return nil, fmt.Errorf("an EAP %s is not expected from a server", packet.Code)
}

// method is one method of the peer.
type method interface {
	respond(p eap.Packet) ([]byte, error)
}

// layer answers identity requests and insists on its one method by Nak.
type layer struct {
	p       *Peer
	name    string
	kind    eap.Type
	make    func() method
	current method
}

func (l *layer) answer(packet eap.Packet) (eap.Packet, error) {
	reply := eap.Packet{Code: eap.Response, Identifier: packet.Identifier, Type: packet.Type}
	switch {
	case packet.Type == eap.Identity:
		l.p.say("server", "asks for the identity")
		l.p.say("peer", "identity: %s", l.name)
		reply.Data = []byte(l.name)
	case packet.Type == eap.Notification:
	case packet.Type != l.kind:
		l.p.say("server", "offers %s", packet.Type)
		l.p.say("peer", "asks for %s instead", l.kind)
		reply.Type, reply.Data = eap.Nak, []byte{byte(l.kind)}
	default:
		if l.current == nil {
			l.p.say("server", "offers %s", packet.Type)
			l.current = l.make()
		}
		data, err := l.current.respond(packet)
		if err != nil {
			return reply, err
		}
		reply.Data = data
	}
	return reply, nil
}
