package secure

import (
	"fmt"
	"net/netip"
	"sync"
)

// Limits bound the connections to a port: all, those from one address, and of both those on which nothing was proven
// yet, which are a stranger's.
type Limits struct{ All, OfOne, Strangers, StrangersOfOne int }

// Crowd counts the connections to a port. Whoever can reach it without a secret takes no more than the places of
// strangers. It is safe for concurrent use.
type Crowd struct {
	limits          Limits
	mu              sync.Mutex
	open, strangers int
	from            map[netip.Addr]*company
}

// company are the connections from one address.
type company struct{ open, strangers int }

// NewCrowd makes an empty one.
func NewCrowd(limits Limits) *Crowd { return &Crowd{limits: limits, from: map[netip.Addr]*company{}} }

// Place is that of one connection.
type Place struct {
	crowd   *Crowd
	addr    netip.Addr
	proving bool
}

// Enter takes a place, or says why there is none.
func (c *Crowd) Enter(addr netip.Addr) (*Place, string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one := c.from[addr]
	if one == nil {
		one = &company{}
	}
	switch {
	case c.open >= c.limits.All:
		return nil, fmt.Sprintf("more than %d connections", c.limits.All)
	case one.open >= c.limits.OfOne:
		return nil, fmt.Sprintf("more than %d connections from one address", c.limits.OfOne)
	case one.strangers >= c.limits.StrangersOfOne:
		return nil, fmt.Sprintf("more than %d connections from one address on which nothing was proven yet",
			c.limits.StrangersOfOne)
	case c.strangers >= c.limits.Strangers:
		return nil, fmt.Sprintf("more than %d connections on which nothing was proven yet", c.limits.Strangers)
	}
	c.from[addr] = one
	c.open, c.strangers, one.open, one.strangers = c.open+1, c.strangers+1, one.open+1, one.strangers+1
	return &Place{c, addr, true}, ""
}

// Proven notes that the connection belongs to a client: a packet came out right, or a certificate did. A trial has no
// place.
func (p *Place) Proven() {
	if p == nil {
		return
	}
	p.crowd.mu.Lock()
	defer p.crowd.mu.Unlock()
	p.settle()
}

func (p *Place) settle() {
	if p.proving {
		p.proving = false
		p.crowd.strangers--
		p.crowd.from[p.addr].strangers--
	}
}

// Leave gives the place back.
func (p *Place) Leave() {
	p.crowd.mu.Lock()
	defer p.crowd.mu.Unlock()
	p.settle()
	p.crowd.open--
	one := p.crowd.from[p.addr]
	if one.open--; one.open == 0 {
		delete(p.crowd.from, p.addr)
	}
}

// Size counts the connections.
func (c *Crowd) Size() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.open
}
