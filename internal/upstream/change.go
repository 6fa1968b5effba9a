package upstream

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"syscall"
	"time"

	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

const (
	changeTimeout = 2 * time.Second
	changeTries   = 3
)

// Change asks a client to end or change a session (RFC 5176).
type Change struct {
	To netip.AddrPort
	// Link is the connection to it over TLS, nil for UDP.
	Link *Link
	From netip.Addr // an address of this host, or none
	// Keys are the secrets to try, the present one first.
	Keys []*radius.Key
	// Code is a Disconnect-Request or a CoA-Request.
	Code radius.Code
	// Attributes name the session, and say what is to become of it.
	Attributes []Attribute
}

// Changed is what a client answered.
type Changed struct {
	// Done tells that it did what was asked for.
	Done bool `json:"done"`
	// Answer is the answer in words; Cause the number of its Error-Cause (RFC 5176 section 3.5), 0 if there was none.
	Answer string `json:"answer"`
	Cause  int    `json:"cause,omitempty"`
	// Tries counts how often it was asked.
	Tries int   `json:"tries"`
	Took  int64 `json:"micros"`
}

// Send asks. An error tells that no answer came that could be proven.
func (c *Change) Send(ctx context.Context) (Changed, error) {
	begun := time.Now()
	var out Changed
	var err error
	if c.Link != nil {
		out, err = c.over(ctx)
		out.Took = time.Since(begun).Microseconds()
		return out, err
	}
	for i, key := range c.Keys {
		tries := changeTries
		if i < len(c.Keys)-1 {
			tries = 1
		}
		out, err = c.send(ctx, key, tries)
		if err == nil {
			break
		}
	}
	out.Took = time.Since(begun).Microseconds()
	return out, err
}

// over asks on a connection over TLS.
func (c *Change) over(ctx context.Context) (Changed, error) {
	out := Changed{Tries: 1}
	err := c.Link.Ask(ctx, func(identifier byte, authenticator [16]byte, key *radius.Key) ([]byte, [16]byte, error) {
		return c.write(key, identifier, authenticator)
	}, func(answer []byte, proof [16]byte, key *radius.Key) error {
		p, err := radius.Decode(answer)
		if err != nil {
			return err
		}
		if err := key.VerifyReply(&p, proof); err != nil && err != radius.ErrNoMessageAuth {
			return err
		}
		return out.read(&p, c.Code)
	})
	if err != nil {
		return out, fmt.Errorf("%s: %w", c.To, err)
	}
	return out, nil
}

func (c *Change) send(ctx context.Context, key *radius.Key, tries int) (Changed, error) {
	var out Changed
	request, authenticator, err := c.request(key)
	if err != nil {
		return out, err
	}
	x, err := Dial(ctx, c.From, c.To, changeTimeout, tries)
	if err != nil {
		return out, fmt.Errorf("asking %s: %w", c.To, err)
	}
	defer x.Close()
	out.Tries, err = x.Ask(ctx, request, func(datagram []byte) error {
		p, err := radius.Decode(bytes.Clone(datagram))
		if err != nil {
			return err
		}
		if err := key.VerifyReply(&p, authenticator); err != nil && err != radius.ErrNoMessageAuth {
			return err
		}
		return out.read(&p, c.Code)
	})
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return out, fmt.Errorf("nothing listens on %s. Switch changes of authorization on at the device, or correct "+
			"the address of the client", c.To)
	case err != nil:
		return out, fmt.Errorf("%s: %w", c.To, err)
	}
	return out, nil
}

// request writes the request: Message-Authenticator first, then the moment, so that it cannot be replayed later (RFC
// 5176 section 6.3).
func (c *Change) request(key *radius.Key) (data []byte, authenticator [16]byte, err error) {
	return c.write(key, byte(time.Now().UnixNano()>>10), [16]byte{})
}

func (c *Change) write(key *radius.Key, identifier byte, token [16]byte) (data []byte, authenticator [16]byte,
	err error) {
	b := radius.NewRequest(c.Code, identifier, token, true)
	b.AddInteger(radius.EventTimestamp, uint32(time.Now().Unix()))
	for _, a := range c.Attributes {
		b.Add(a.Type, a.Value)
	}
	if data, err = b.SignFixed(key); err != nil {
		return nil, authenticator, err
	}
	copy(authenticator[:], data[4:20])
	return data, authenticator, nil
}

// read takes an answer.
func (r *Changed) read(p *radius.Packet, asked radius.Code) error {
	ack, nak := asked+1, asked+2
	if p.Code != ack && p.Code != nak {
		return fmt.Errorf("the answer is a %s", p.Code)
	}
	r.Done, r.Answer = p.Code == ack, p.Code.String()
	if v := p.Get(radius.ErrorCause); len(v) == 4 {
		cause := binary.BigEndian.Uint32(v)
		r.Cause = int(cause)
		r.Answer += ", " + dict.ByType(radius.ErrorCause).ValueName(cause) + " (" + strconv.Itoa(r.Cause) + ")"
	}
	return nil
}
