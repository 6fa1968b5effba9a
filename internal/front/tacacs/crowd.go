package tacacs

import (
	"fmt"
	"net/netip"
	"sync"
)

// crowd counts the connections of gear: all, those from one address, and those on which nothing was proven yet. Whoever
// can reach the port without a secret takes no more than the places of strangers.
type crowd struct {
	mu              sync.Mutex
	open, strangers int
	from            map[netip.Addr]*company
}

// company are the connections from one address.
type company struct{ open, strangers int }

func newCrowd() crowd { return crowd{from: map[netip.Addr]*company{}} }

// place is that of one connection.
type place struct {
	crowd   *crowd
	addr    netip.Addr
	proving bool
}

// enter takes a place, or says why there is none.
func (c *crowd) enter(addr netip.Addr) (*place, string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one := c.from[addr]
	if one == nil {
		one = &company{}
	}
	switch {
	case c.open >= maxGear:
		return nil, fmt.Sprintf("more than %d connections", maxGear)
	case one.open >= maxGearOfOne:
		return nil, fmt.Sprintf("more than %d connections from one address", maxGearOfOne)
	case one.strangers >= maxStrangersOfOne:
		return nil, fmt.Sprintf("more than %d connections from one address on which nothing was proven yet",
			maxStrangersOfOne)
	case c.strangers >= maxStrangers:
		return nil, fmt.Sprintf("more than %d connections on which nothing was proven yet", maxStrangers)
	}
	c.from[addr] = one
	c.open, c.strangers, one.open, one.strangers = c.open+1, c.strangers+1, one.open+1, one.strangers+1
	return &place{c, addr, true}, ""
}

// proven notes that the connection belongs to a client: a packet came out right, or a certificate did. A trial has no
// place.
func (p *place) proven() {
	if p == nil {
		return
	}
	p.crowd.mu.Lock()
	defer p.crowd.mu.Unlock()
	p.settle()
}

func (p *place) settle() {
	if p.proving {
		p.proving = false
		p.crowd.strangers--
		p.crowd.from[p.addr].strangers--
	}
}

func (p *place) leave() {
	p.crowd.mu.Lock()
	defer p.crowd.mu.Unlock()
	p.settle()
	p.crowd.open--
	one := p.crowd.from[p.addr]
	if one.open--; one.open == 0 {
		delete(p.crowd.from, p.addr)
	}
}

func (c *crowd) size() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.open
}
