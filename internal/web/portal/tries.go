package portal

import (
	"net/netip"
	"sync"
	"time"
)

const (
	// perSource is how many times somebody may try from one address in a while; what was right is not counted.
	perSource = 10
	while     = 10 * time.Minute
	// maxSources bounds the addresses that are remembered; beyond, strangers share one place.
	maxSources = 20_000
)

// tries count what comes from an address, so that nobody guesses passwords of people here. Directories and accounts
// have their own guards against it as well.
type tries struct {
	mu    sync.Mutex
	begun time.Time
	count map[netip.Addr]int
}

// source is the address, or the network of a household for IPv6.
func source(a netip.Addr) netip.Addr {
	if a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.Addr()
		}
	}
	return a
}

func (t *tries) allow(a netip.Addr, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.count == nil || now.Sub(t.begun) > while || now.Before(t.begun) {
		t.begun, t.count = now, map[netip.Addr]int{}
	}
	if a = source(a); t.count[a] == 0 && len(t.count) >= maxSources {
		a = netip.Addr{}
	}
	t.count[a]++
	return t.count[a] <= perSource
}

// right takes back one try, and no more: whoever has a password of their own is not to guess those of others by it.
func (t *tries) right(a netip.Addr) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if a = source(a); t.count[a] > 1 {
		t.count[a]--
	} else {
		delete(t.count, a)
	}
}
