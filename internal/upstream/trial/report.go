package trial

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/dict"
	"tollgate.example/key/internal/wire/radius"
)

// Report is one Accounting-Request, as a device sends it (RFC 2866).
type Report struct {
	Server string // host:port
	// From is the local address to send from, zero for any.
	From   netip.Addr
	Secret string
	// Attributes are all attributes by standard name and text value, Acct-Status-Type too.
	Attributes []results.Attribute
	// Timeout is for each of the tries.
	Timeout time.Duration
	Tries   int
}

// Send sends the request until it is acknowledged.
func (r *Report) Send(ctx context.Context) error {
	server, err := netip.ParseAddrPort(r.Server)
	if err != nil {
		return fmt.Errorf("the address of the server: %w", err)
	}
	key := radius.NewKey([]byte(r.Secret))
	var id [1]byte
	rand.Read(id[:])
	b := radius.NewRequest(radius.AccountingRequest, id[0], [16]byte{}, false)
	for _, a := range r.Attributes {
		entry := dict.ByName(a.Name)
		if entry == nil {
			return fmt.Errorf("attribute %s is not known", a.Name)
		}
		value, err := entry.Encode(a.Value)
		if err != nil {
			return fmt.Errorf("%s: %w", a.Name, err)
		}
		b.Add(entry.Type, value)
	}
	request, err := b.SignFixed(key)
	if err != nil {
		return err
	}
	x, err := upstream.Dial(ctx, r.From, server, r.Timeout, r.Tries)
	if err != nil {
		return err
	}
	defer x.Close()
	_, err = x.Ask(ctx, request, func(datagram []byte) error {
		p, err := radius.Decode(bytes.Clone(datagram))
		switch {
		case err != nil:
			return err
		case p.Code != radius.AccountingResponse:
			return fmt.Errorf("the answer is an %s", p.Code)
		}
		if err := key.VerifyReply(&p, [16]byte(request[4:20])); err != nil && err != radius.ErrNoMessageAuth {
			return err
		}
		return nil
	})
	return err
}
