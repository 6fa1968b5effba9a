package operator

import (
	"container/list"
	"net/netip"
	"slices"
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

// limits count failed sign-ins by where they come from: an address, or a browser that somebody has signed in with.
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
	// signed are the names of those who have signed in from there, the latest last.
	signed []string
}

// maxSigned bounds the names that are kept of a source.
const maxSigned = 50

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

// origin is what is known of where a sign-in comes from: whether somebody has signed in from there, and whether the
// one whose name is given has.
type origin struct{ known, own bool }

// take counts a sign-in of a source.
func (l *limits) take(address, name string) (allowed bool, at origin) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s, now := l.get(address), l.now()
	s.left = min(signInBurst, s.left+now.Sub(s.at).Seconds()/signInEvery.Seconds())
	at = origin{len(s.signed) > 0, slices.Contains(s.signed, alike(name))}
	if s.at = now; s.left < 1 {
		return false, at
	}
	s.left--
	return true, at
}

// succeeded takes one sign-in out of the count again. It does not forget the failed ones: whoever has an account of his
// own would guess at others without end.
func (l *limits) succeeded(address, name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.get(address)
	s.left = min(signInBurst, s.left+1)
	if name = alike(name); name == "" {
		return
	}
	s.signed = append(slices.DeleteFunc(s.signed, func(n string) bool { return n == name }), name)
	s.signed = s.signed[max(0, len(s.signed)-maxSigned):]
}
