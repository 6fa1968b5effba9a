package datagram

import (
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"github.com/pion/transport/v5/deadline"
)

// queueSize bounds the datagrams that wait in a Queue, MaxSize the octets of one: a packet of RADIUS in a record, or a
// flight of a handshake. What is beyond that is lost, as on any busy network.
const (
	queueSize = 32
	MaxSize   = 8 << 10
)

// Queue is one other end's share of a socket: what Put was given can be read, and what is written goes there. It is a
// net.PacketConn.
type Queue struct {
	local  net.Addr
	remote netip.AddrPort
	send   func([]byte)
	in     chan []byte
	until  *deadline.Deadline
	once   sync.Once
	closed chan struct{}
}

// NewQueue makes the share of one other end, which datagrams are sent to with send.
func NewQueue(local net.Addr, remote netip.AddrPort, send func([]byte)) *Queue {
	return &Queue{local: local, remote: remote, send: send, in: make(chan []byte, queueSize), until: deadline.New(),
		closed: make(chan struct{})}
}

// Put adds a copy of a datagram that came in, and does not wait.
func (q *Queue) Put(data []byte) {
	if len(q.in) == queueSize || len(data) > MaxSize {
		return
	}
	select {
	case q.in <- append([]byte(nil), data...):
	default:
	}
}

// ReadFrom implements net.PacketConn.
func (q *Queue) ReadFrom(b []byte) (int, net.Addr, error) {
	select { // what is over is over, whatever waits
	case <-q.closed:
		return 0, nil, net.ErrClosed
	case <-q.until.Done():
		return 0, nil, os.ErrDeadlineExceeded
	default:
	}
	select {
	case data := <-q.in:
		return copy(b, data), net.UDPAddrFromAddrPort(q.remote), nil
	case <-q.closed:
		return 0, nil, net.ErrClosed
	case <-q.until.Done():
		return 0, nil, os.ErrDeadlineExceeded
	}
}

// WriteTo implements net.PacketConn.
func (q *Queue) WriteTo(b []byte, _ net.Addr) (int, error) {
	q.send(b)
	return len(b), nil
}

// Close ends the share, not the socket.
func (q *Queue) Close() error {
	q.once.Do(func() { close(q.closed) })
	return nil
}

// LocalAddr implements net.PacketConn.
func (q *Queue) LocalAddr() net.Addr { return q.local }

// SetDeadline implements net.PacketConn. Writing never waits.
func (q *Queue) SetDeadline(t time.Time) error { return q.SetReadDeadline(t) }

// SetReadDeadline implements net.PacketConn.
func (q *Queue) SetReadDeadline(t time.Time) error {
	q.until.Set(t)
	return nil
}

// SetWriteDeadline implements net.PacketConn.
func (q *Queue) SetWriteDeadline(time.Time) error { return nil }
