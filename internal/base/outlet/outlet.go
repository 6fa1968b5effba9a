// Package outlet writes what many goroutines send on one connection, without holding any of them up: what comes while
// something is being written goes out together.
package outlet

import (
	"net"
	"sync"
	"time"
)

// Outlet is the sending side of a connection. It is safe for concurrent use.
type Outlet struct {
	conn  net.Conn
	most  int
	limit time.Duration

	mu      sync.Mutex
	pending []byte
	writing bool
	failed  bool
}

// keep is how large a buffer may be to be used again.
const keep = 64 << 10

// New makes an outlet of a connection. It closes the connection when a write takes longer than limit, or when more than
// most octets wait for the peer to read them.
func New(conn net.Conn, most int, limit time.Duration) *Outlet {
	return &Outlet{conn: conn, most: most, limit: limit}
}

// Send takes data to be written, and reports whether the connection still stands.
func (o *Outlet) Send(data []byte) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.failed {
		return false
	}
	if len(o.pending)+len(data) > o.most {
		o.fail()
		return false
	}
	o.pending = append(o.pending, data...)
	if !o.writing {
		o.writing = true
		go o.write()
	}
	return true
}

// fail ends the connection. A close of TLS could wait for a write that hangs, so it is not waited for.
func (o *Outlet) fail() {
	o.failed, o.pending = true, nil
	o.conn.SetDeadline(time.Now())
	go o.conn.Close()
}

// Idle reports whether nothing waits to be written.
func (o *Outlet) Idle() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return !o.writing
}

func (o *Outlet) write() {
	var spare []byte
	for {
		o.mu.Lock()
		out := o.pending
		if o.pending = spare[:0]; len(out) == 0 {
			o.writing = false
			o.mu.Unlock()
			return
		}
		o.mu.Unlock()
		o.conn.SetWriteDeadline(time.Now().Add(o.limit))
		_, err := o.conn.Write(out)
		if spare = out; cap(spare) > keep {
			spare = nil
		}
		if err != nil {
			o.mu.Lock()
			o.writing = false
			if !o.failed {
				o.fail()
			}
			o.mu.Unlock()
			return
		}
	}
}
