package peer

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

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
	dialer := net.Dialer{}
	if r.From.IsValid() {
		dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(r.From, 0))
	}
	c, err := dialer.DialContext(ctx, "udp", r.Server)
	if err != nil {
		return nil, fmt.Errorf("sending to %s: %w", r.Server, err)
	}
	return &network{Conn: c, r: r, stop: context.AfterFunc(ctx, func() { c.SetReadDeadline(time.Now()) })}, nil
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
	net.Conn
	r    *Request
	stop func() bool
	buf  [radius.MaxSize]byte
}

func (n *network) close() {
	n.stop()
	n.Conn.Close()
}

func (n *network) ask(ctx context.Context, data []byte) (radius.Packet, int, error) {
	for try := 1; try <= max(1, n.r.Tries); try++ {
		if _, err := n.Write(data); err != nil {
			return radius.Packet{}, try, fmt.Errorf("sending to %s: %w", n.r.Server, err)
		}
		if ctx.Err() == nil {
			n.SetReadDeadline(time.Now().Add(n.r.Timeout))
		}
		p, err := n.receive(data[1])
		if errors.Is(err, os.ErrDeadlineExceeded) && ctx.Err() == nil {
			continue
		}
		if err != nil {
			return radius.Packet{}, try, fmt.Errorf("waiting for the answer of %s: %w", n.r.Server, err)
		}
		return p, try, nil
	}
	return radius.Packet{}, max(1, n.r.Tries), fmt.Errorf("%w from %s after %d tries: the server does not listen there, does not know this address as a client, or the shared secrets differ", ErrNoAnswer, n.r.Server, max(1, n.r.Tries))
}

// receive waits for a packet with the identifier; others are late or not ours.
func (n *network) receive(identifier byte) (radius.Packet, error) {
	for {
		size, err := n.Read(n.buf[:])
		if err != nil {
			return radius.Packet{}, err
		}
		if p, err := radius.Decode(n.buf[:size]); err == nil && p.Identifier == identifier {
			return p, nil
		}
	}
}
