// Package peer is the other side: our own RADIUS client, for trying things out, for the stand-ins and for tests.
package peer

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

// Request is one Access-Request to send.
type Request struct {
	Server string // host:port
	// From is the local address to send from, zero for any.
	From   netip.Addr
	Secret string
	// Unsigned leaves Message-Authenticator out.
	Unsigned bool
	User     string
	Password string
	// Attributes are further attributes by standard name and text value.
	Attributes []Attribute
	// Timeout is for each of the tries.
	Timeout time.Duration
	Tries   int
	// Status sends Status-Server instead of an Access-Request.
	Status bool
}

// Attribute is one attribute by name.
type Attribute struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Reply is what came back.
type Reply struct {
	Code       string        `json:"code"`
	Accepted   bool          `json:"accepted"`
	Attributes []Attribute   `json:"attributes"`
	Took       time.Duration `json:"took"`
	Tries      int           `json:"tries"`
}

// ErrNoAnswer is returned when nothing came back at all.
var ErrNoAnswer = errors.New("no answer")

// Send sends a request, again if it is lost, and checks the reply.
func Send(ctx context.Context, r Request) (Reply, error) {
	key := radius.NewKey([]byte(r.Secret))
	data, authenticator, err := build(&r, key)
	if err != nil {
		return Reply{}, err
	}
	dialer := net.Dialer{}
	if r.From.IsValid() {
		dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(r.From, 0))
	}
	c, err := dialer.DialContext(ctx, "udp", r.Server)
	if err != nil {
		return Reply{}, fmt.Errorf("sending to %s: %w", r.Server, err)
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.SetReadDeadline(time.Now()) })
	defer stop()
	begun := time.Now()
	buf := make([]byte, radius.MaxSize)
	for try := 1; try <= max(1, r.Tries); try++ {
		if _, err := c.Write(data); err != nil {
			return Reply{}, fmt.Errorf("sending to %s: %w", r.Server, err)
		}
		if ctx.Err() == nil {
			c.SetReadDeadline(time.Now().Add(r.Timeout))
		}
		p, err := receive(c, buf, data[1])
		if errors.Is(err, os.ErrDeadlineExceeded) && ctx.Err() == nil {
			continue
		}
		if err != nil {
			return Reply{}, fmt.Errorf("waiting for the answer of %s: %w", r.Server, err)
		}
		if err := key.VerifyReply(&p, authenticator); err != nil && !(r.Unsigned && errors.Is(err, radius.ErrNoMessageAuth)) {
			return Reply{}, err
		}
		return reply(&p, time.Since(begun), try), nil
	}
	return Reply{}, fmt.Errorf("%w from %s after %d tries: the server does not listen there, does not know this address as a client, or the shared secrets differ", ErrNoAnswer, r.Server, max(1, r.Tries))
}

// receive waits for a packet with the identifier; others are late or not ours.
func receive(c net.Conn, buf []byte, identifier byte) (radius.Packet, error) {
	for {
		n, err := c.Read(buf)
		if err != nil {
			return radius.Packet{}, err
		}
		if p, err := radius.Decode(buf[:n]); err == nil && p.Identifier == identifier {
			return p, nil
		}
	}
}

func build(r *Request, key *radius.Key) ([]byte, [16]byte, error) {
	var random [17]byte
	rand.Read(random[:])
	authenticator := [16]byte(random[1:])
	code := radius.AccessRequest
	if r.Status {
		code = radius.StatusServer
	}
	b := radius.NewRequest(code, random[0], authenticator, !r.Unsigned)
	if !r.Status {
		hidden, err := key.HidePassword([]byte(r.Password), authenticator)
		if err != nil {
			return nil, authenticator, err
		}
		b.AddText(radius.UserName, r.User)
		b.Add(radius.UserPassword, hidden)
	}
	for _, a := range r.Attributes {
		entry := dict.ByName(a.Name)
		if entry == nil {
			return nil, authenticator, fmt.Errorf("there is no attribute %q", a.Name)
		}
		value, err := entry.Encode(a.Value)
		if err != nil {
			return nil, authenticator, err
		}
		b.Add(entry.Type, value)
	}
	data, err := b.SignRequest(key)
	return data, authenticator, err
}

func reply(p *radius.Packet, took time.Duration, tries int) Reply {
	out := Reply{Code: p.Code.String(), Accepted: p.Code == radius.AccessAccept, Attributes: []Attribute{}, Took: took, Tries: tries}
	for t, value := range p.Attributes() {
		if t == radius.MessageAuthenticator {
			continue
		}
		text := fmt.Sprintf("0x%x", value)
		if entry := dict.ByType(t); entry != nil {
			text = entry.Format(value)
		}
		out.Attributes = append(out.Attributes, Attribute{dict.Name(t), text})
	}
	return out
}
