package upstream

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"tollgate.example/key/internal/wire/radius"
)

// maxHops bounds through how many servers a request may have come; beyond that it goes in a circle.
const maxHops = 10

const (
	tunnelPassword = 69
	chapChallenge  = 60
)

// Attribute is one attribute of an answer.
type Attribute struct {
	Type  byte
	Value []byte
}

// Transport reports whether an attribute is part of how the answer is said, and grants nothing: EAP, State, and the
// proofs and errors of MS-CHAP.
func (a Attribute) Transport() bool {
	switch a.Type {
	case radius.EAPMessage, radius.State:
		return true
	case radius.VendorSpecific:
		return len(a.Value) > 5 && binary.BigEndian.Uint32(a.Value) == radius.Vendor2548
	}
	return false
}

// Answer is what a server said, proven.
type Answer struct {
	Code       radius.Code
	Attributes []Attribute
	// From is the address of the server that said it.
	From string
	// SendKey and ReceiveKey are opened MPPE keys (RFC 2548 section 2.4), nil if there are none.
	SendKey, ReceiveKey []byte
}

// Challenge reports whether the server asks for another round.
func (a *Answer) Challenge() bool { return a.Code == radius.AccessChallenge }

// Accepted reports whether the server admits.
func (a *Answer) Accepted() bool { return a.Code == radius.AccessAccept }

// String is what the answer says in words.
func (a *Answer) String() string {
	text := a.Code.String()
	for _, attribute := range a.Attributes {
		if attribute.Type == radius.ReplyMessage {
			text += ": " + strings.ToValidUTF8(string(attribute.Value), "?")
		}
	}
	return text
}

// ErrCircle tells that a request has come through too many servers.
var ErrCircle = errors.New("the request has come through too many servers: two of them forward to each other")

// instance tells our own Proxy-State from those of others.
var instance = func() (out [8]byte) {
	rand.Read(out[:])
	return out
}()

// request writes an Access-Request anew for the server; theirs is the key of our client.
func (s *Server) request(p *radius.Packet, theirs *radius.Key, identifier byte, authenticator [16]byte,
	key *radius.Key) ([]byte, error) {
	b := radius.NewRequest(radius.AccessRequest, identifier, authenticator, true)
	hops, challenge, chap := 0, false, false
	for t, value := range p.Attributes() {
		switch t {
		case radius.MessageAuthenticator:
			continue
		case radius.UserPassword:
			clear, err := theirs.OpenPassword(nil, value, p.Authenticator)
			if err != nil {
				return nil, err
			}
			if value, err = key.HidePassword(clear, authenticator); err != nil {
				return nil, err
			}
		case radius.CHAPPassword:
			chap = true
		case chapChallenge:
			challenge = true
		case radius.ProxyState:
			if hops++; ours(value) {
				return nil, ErrCircle
			}
		}
		s.rules.pass(b, t, value)
	}
	if chap && !challenge { // it was the authenticator (RFC 2865 section 2.2), which is another one now
		b.Add(chapChallenge, p.Authenticator[:])
	}
	if hops >= maxHops {
		return nil, ErrCircle
	}
	s.rules.add(b)
	b.Add(radius.ProxyState, instance[:])
	return b.SignRequest(key)
}

// read proves an answer and takes out what was hidden for us.
func (s *Server) read(data []byte, authenticator [16]byte, key *radius.Key) (*Answer, error) {
	p, err := radius.Decode(data)
	if err != nil {
		return nil, err
	}
	if err := key.VerifyReply(&p, authenticator); err != nil &&
		!((s.Unsigned || s.TLS != nil) && errors.Is(err, radius.ErrNoMessageAuth)) {
		return nil, err
	}
	switch p.Code {
	case radius.AccessAccept, radius.AccessReject, radius.AccessChallenge:
	default:
		return nil, fmt.Errorf("the answer is an %s", p.Code)
	}
	out := &Answer{Code: p.Code}
	for _, hidden := range []struct {
		t  byte
		to *[]byte
	}{{radius.MSMPPESendKey, &out.SendKey}, {radius.MSMPPERecvKey, &out.ReceiveKey}} {
		if value := p.Vendor(radius.Vendor2548, hidden.t); value != nil {
			if *hidden.to, err = key.OpenMPPEKey(value, authenticator); err != nil {
				return nil, err
			}
		}
	}
	for t, value := range p.Attributes() {
		switch {
		// ours, hidden for us, or made anew
		case t == radius.MessageAuthenticator, t == tunnelPassword, t == radius.ProxyState:
		case t == radius.VendorSpecific && isKey(value):
		default:
			out.Attributes = append(out.Attributes, Attribute{t, value})
		}
	}
	return out, nil
}

// isKey reports whether a Vendor-Specific holds keys that are hidden with the secret.
func isKey(value []byte) bool {
	return len(value) >= 6 && bytes.Equal(value[:4], []byte{0, 0, 1, 55}) && (value[4] == radius.MSMPPESendKey ||
		value[4] == radius.MSMPPERecvKey || value[4] == radius.MSCHAPMPPEKeys)
}
