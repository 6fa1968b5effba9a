package app

import (
	"net"
	"net/netip"
	"sync"
)

const (
	// maxWeb is how many connections to the console and the API may be open, maxWebOfOne how many from one address (one
	// /64 in IPv6). Loopback has the first limit alone, since a proxy may stand there for everybody.
	maxWeb      = 4096
	maxWebOfOne = 256
)

// crowd is a listener that closes connections beyond its limits as soon as they are accepted.
type crowd struct {
	net.Listener
	mu   sync.Mutex
	open int
	from map[netip.Prefix]int
}

func limited(l net.Listener) *crowd { return &crowd{Listener: l, from: map[netip.Prefix]int{}} }

// Accept implements net.Listener.
func (c *crowd) Accept() (net.Conn, error) {
	for {
		conn, err := c.Listener.Accept()
		if err != nil {
			return nil, err
		}
		source := sourceOf(conn)
		if c.enter(source) {
			return &guest{Conn: conn, leave: sync.OnceFunc(func() { c.leave(source) })}, nil
		}
		conn.Close()
	}
}

// sourceOf is whom a connection is counted for.
func sourceOf(conn net.Conn) netip.Prefix {
	at, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return netip.Prefix{}
	}
	bits, addr := 64, at.Addr().Unmap().WithZone("")
	if addr.Is4() {
		bits = 32
	}
	source, _ := addr.Prefix(bits)
	return source
}

func (c *crowd) enter(source netip.Prefix) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open >= maxWeb || c.from[source] >= maxWebOfOne && !source.Addr().IsLoopback() {
		return false
	}
	c.open++
	c.from[source]++
	return true
}

func (c *crowd) leave(source netip.Prefix) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.open--
	if c.from[source]--; c.from[source] == 0 {
		delete(c.from, source)
	}
}

// guest is a connection that gives its place back when it is closed.
type guest struct {
	net.Conn
	leave func()
}

// Close implements net.Conn.
func (g *guest) Close() error {
	defer g.leave()
	return g.Conn.Close()
}
