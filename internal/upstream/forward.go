package upstream

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

const (
	// silentFor is how long a server that did not answer is asked last.
	silentFor = 10 * time.Second
	// maxHops bounds through how many servers a request may have come; beyond that it goes in a circle.
	maxHops = 10
)

const (
	tunnelPassword = 69
	chapChallenge  = 60
)

// Server is one remote server. It is safe for concurrent use.
type Server struct {
	Name     string
	addr     netip.AddrPort
	key      *radius.Key
	timeout  time.Duration
	tries    int
	unsigned bool
	silent   atomic.Int64 // when it last did not answer, in nanoseconds since 1970
	waiting  atomic.Int64
}

// maxWaiting bounds how many requests wait for one server at once. One that hangs must not hold up the others.
const maxWaiting = 256

// New makes a server; address is an IP address with a port.
func New(name, address, secret string, timeout time.Duration, tries int, unsigned bool) (*Server, error) {
	addr, err := netip.ParseAddrPort(address)
	if err != nil {
		return nil, fmt.Errorf("the address of remote server %s: %w", name, err)
	}
	return &Server{Name: name, addr: addr, key: radius.NewKey([]byte(secret)), timeout: timeout, tries: tries,
		unsigned: unsigned}, nil
}

// Silent reports whether it did not answer recently.
func (s *Server) Silent(now time.Time) bool { return now.UnixNano()-s.silent.Load() < int64(silentFor) }

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

// Forward asks the server what p asks us; key is that of our client. It takes at most the time-out of each try.
func (s *Server) Forward(ctx context.Context, p *radius.Packet, key *radius.Key) (*Answer, error) {
	if s.waiting.Add(1) > maxWaiting {
		s.waiting.Add(-1)
		return nil, fmt.Errorf("%s at %s: %d requests wait for it already", s.Name, s.addr, maxWaiting)
	}
	defer s.waiting.Add(-1)
	var authenticator [16]byte
	rand.Read(authenticator[:])
	request, err := s.request(p, key, authenticator)
	if err != nil {
		return nil, err
	}
	x, err := Dial(ctx, netip.Addr{}, s.addr, s.timeout, s.tries)
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", s.Name, err)
	}
	defer x.Close()
	var answer *Answer
	if _, err := x.Ask(ctx, request, func(datagram []byte) (err error) {
		answer, err = s.read(bytes.Clone(datagram), authenticator)
		return err
	}); err != nil {
		s.silent.Store(time.Now().UnixNano())
		return nil, fmt.Errorf("%s at %s: %w", s.Name, s.addr, err)
	}
	s.silent.Store(0)
	return answer, nil
}

// request writes the request anew for the server.
func (s *Server) request(p *radius.Packet, key *radius.Key, authenticator [16]byte) ([]byte, error) {
	b := radius.NewRequest(radius.AccessRequest, authenticator[0], authenticator, true)
	hops, challenge, chap := 0, false, false
	for t, value := range p.Attributes() {
		switch t {
		case radius.MessageAuthenticator:
			continue
		case radius.UserPassword:
			clear, err := key.OpenPassword(nil, value, p.Authenticator)
			if err != nil {
				return nil, err
			}
			if value, err = s.key.HidePassword(clear, authenticator); err != nil {
				return nil, err
			}
		case radius.CHAPPassword:
			chap = true
		case chapChallenge:
			challenge = true
		case radius.ProxyState:
			hops++
		}
		b.Add(t, value)
	}
	if chap && !challenge { // it was the authenticator (RFC 2865 section 2.2), which is another one now
		b.Add(chapChallenge, p.Authenticator[:])
	}
	if hops >= maxHops {
		return nil, ErrCircle
	}
	b.Add(radius.ProxyState, authenticator[8:])
	return b.SignRequest(s.key)
}

// read proves an answer and takes out what was hidden for us.
func (s *Server) read(data []byte, authenticator [16]byte) (*Answer, error) {
	p, err := radius.Decode(data)
	if err != nil {
		return nil, err
	}
	if err := s.key.VerifyReply(&p, authenticator); err != nil &&
		!(s.unsigned && errors.Is(err, radius.ErrNoMessageAuth)) {
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
			if *hidden.to, err = s.key.OpenMPPEKey(value, authenticator); err != nil {
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
