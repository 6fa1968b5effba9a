// Package upstream is the client side of RADIUS: one request is sent to a server until an answer comes that belongs to
// it (RFC 2865 section 2.5). Forwarding, trying and, later, changes of authorization use the same exchange.
package upstream

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

// ErrNoAnswer is returned when a server sent nothing at all.
var ErrNoAnswer = errors.New("no answer")

// afterRefusal is how long an exchange waits after the host said that nobody listens: the next try may do better.
const afterRefusal = 100 * time.Millisecond

// Exchange is a UDP socket to one server, with how patiently it is asked. It is used by one goroutine.
type Exchange struct {
	conn    *net.UDPConn
	stop    func() bool
	timeout time.Duration
	tries   int
	buf     [radius.MaxSize]byte
}

// Dial opens a socket to a server, from an address of this host if one is given. Each request is sent up to tries
// times, waiting for timeout each time; the end of ctx ends the wait.
func Dial(ctx context.Context, from netip.Addr, server netip.AddrPort, timeout time.Duration, tries int) (*Exchange,
	error) {
	var local *net.UDPAddr
	if from.IsValid() {
		local = net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
	}
	conn, err := net.DialUDP("udp", local, net.UDPAddrFromAddrPort(server))
	if err != nil {
		return nil, fmt.Errorf("opening a socket to %s: %w", server, err)
	}
	x := &Exchange{conn: conn, timeout: timeout, tries: max(1, tries)}
	x.stop = context.AfterFunc(ctx, func() { conn.SetDeadline(time.Now()) })
	return x, nil
}

// Close closes the socket.
func (x *Exchange) Close() {
	x.stop()
	x.conn.Close()
}

// Ask sends a request until accept takes what comes back, and returns how often it was sent. A datagram that accept
// returns an error for is passed over, since it is forged and the right one may come yet. If none is accepted, the
// error is the last one that accept or the network gave, or ErrNoAnswer. The datagram holds until the next call.
func (x *Exchange) Ask(ctx context.Context, request []byte, accept func(datagram []byte) error) (tries int, err error) {
	for tries = 1; tries <= x.tries && ctx.Err() == nil; tries++ {
		if _, e := x.conn.Write(request); e != nil {
			err = e
		}
		for deadline := time.Now().Add(x.timeout); ctx.Err() == nil; {
			x.conn.SetReadDeadline(deadline)
			n, e := x.conn.Read(x.buf[:])
			if e != nil {
				var network net.Error
				if !errors.As(e, &network) || !network.Timeout() {
					err = e
					pause(ctx, min(afterRefusal, time.Until(deadline)))
				}
				break
			}
			if n < 2 || x.buf[1] != request[1] { // late: it belongs to another request
				continue
			}
			if err = accept(x.buf[:n]); err == nil {
				return tries, nil
			}
		}
	}
	tries--
	switch {
	case err != nil:
	case ctx.Err() != nil:
		err = ctx.Err()
	default:
		err = fmt.Errorf("%w within %v, asked %d times", ErrNoAnswer, x.timeout, x.tries)
	}
	return tries, err
}

// pause waits, but not longer than the context.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}
