package trial

import (
	"context"
	"errors"
	"fmt"
	"net"

	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/radius"
)

// link carries packets to a server and back.
type link interface {
	// ask sends a packet until an answer comes, and tells how often that took. The answer holds until the next.
	ask(ctx context.Context, data []byte) (radius.Packet, int, error)
	close()
}

func open(ctx context.Context, r *Request) (link, error) {
	if r.Exchange != nil {
		return direct(r.Exchange), nil
	}
	server, err := net.ResolveUDPAddr("udp", r.Server)
	if err != nil {
		return nil, fmt.Errorf("the server %s: %w", r.Server, err)
	}
	x, err := upstream.Dial(ctx, r.From, server.AddrPort(), r.Timeout, r.Tries)
	if err != nil {
		return nil, err
	}
	return &network{x, r.Server}, nil
}

// direct hands packets over within the process.
type direct func(ctx context.Context, packet []byte) ([]byte, error)

func (d direct) ask(ctx context.Context, data []byte) (radius.Packet, int, error) {
	reply, err := d(ctx, data)
	if err != nil {
		return radius.Packet{}, 1, err
	}
	p, err := radius.Decode(reply)
	return p, 1, err
}

func (direct) close() {}

// network is a UDP socket.
type network struct {
	*upstream.Exchange
	server string
}

func (n *network) close() { n.Close() }

func (n *network) ask(ctx context.Context, data []byte) (p radius.Packet, tries int, err error) {
	tries, err = n.Ask(ctx, data, func(datagram []byte) (err error) {
		p, err = radius.Decode(datagram)
		return err
	})
	switch {
	case errors.Is(err, upstream.ErrNoAnswer):
		err = fmt.Errorf("%w from %s after %d tries: the server does not listen there, does not know this address as "+
			"a client, or the shared secrets differ", upstream.ErrNoAnswer, n.server, tries)
	case err != nil:
		err = fmt.Errorf("waiting for the answer of %s: %w", n.server, err)
	}
	return p, tries, err
}
