package operator

import (
	"container/list"
	"net/netip"
	"sync"
	"time"
)

const (
	// signInBurst sign-ins at once, then one every signInEvery, for each source.
	signInBurst = 8
	signInEvery = 8 * time.Second
	// maxSources bounds the sources that are counted; beyond it the one that was silent longest is forgotten.
	maxSources = 10_000
)

// limits count failed sign-ins by where they come from, and by nothing else: names cost nothing to make up, so counting
// by name would let anybody push others out of what is remembered, and lock a named operator out.
type limits struct {
	now func() time.Time

	mu      sync.Mutex
	sources map[string]*list.Element
	order   *list.List // the one used last at the back
}

type source struct {
	name string
	left float64
	at   time.Time
	// known tells that somebody has signed in from there.
	known bool
}

func newLimits() *limits {
	return &limits{now: time.Now, sources: map[string]*list.Element{}, order: list.New()}
}

// key is the source of an address: of IPv6 the network of 64 bits, in which one host may take any address it likes.
func key(address string) string {
	addr, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if addr = addr.Unmap().WithZone(""); addr.Is6() {
		if p, err := addr.Prefix(64); err == nil {
			return p.String()
		}
	}
	return addr.String()
}

func (l *limits) get(address string) *source {
	name := key(address)
	if e := l.sources[name]; e != nil {
		l.order.MoveToBack(e)
		return e.Value.(*source)
	}
	if l.order.Len() >= maxSources {
		delete(l.sources, l.order.Remove(l.order.Front()).(*source).name)
	}
	s := &source{name: name, left: signInBurst, at: l.now()}
	l.sources[name] = l.order.PushBack(s)
	return s
}

// take counts a sign-in of a source. known tells that the source is one from which somebody has signed in before.
func (l *limits) take(address string) (allowed, known bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s, now := l.get(address), l.now()
	s.left = min(signInBurst, s.left+now.Sub(s.at).Seconds()/signInEvery.Seconds())
	if s.at = now; s.left < 1 {
		return false, s.known
	}
	s.left--
	return true, s.known
}

// succeeded takes one sign-in out of the count again. It does not forget the failed ones: whoever has an account of his
// own would guess at others without end.
func (l *limits) succeeded(address string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.get(address)
	s.left, s.known = min(signInBurst, s.left+1), true
}
