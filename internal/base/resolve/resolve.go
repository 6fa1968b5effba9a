// Package resolve finds addresses and services by DNS (RFC 1035, 2782) so that one server that does not answer holds up
// nobody: the next is asked beside it after a moment, answers are kept for as long as they are good, and beyond that
// while nobody answers.
package resolve

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

const (
	// besideAfter is how long one server is waited for before the next is asked beside it.
	besideAfter = 300 * time.Millisecond
	// longest bounds a question whose context has no nearer end.
	longest = 5 * time.Second
	// maxKept bounds the answers kept; keepStale is how long one is kept past its time, for when nobody answers.
	maxKept   = 4096
	keepStale = 7 * 24 * time.Hour
	// Answers are good for their TTL within these bounds; that something does not exist, for notThere at most.
	minTTL   = time.Second
	maxTTL   = 24 * time.Hour
	notThere = 30 * time.Second
	// askAgain is how long an old answer is given without asking, while nobody answers.
	askAgain = 5 * time.Second
	// muteFor is how long a server that did not answer is asked last.
	muteFor = 30 * time.Second
)

// Resolver asks some DNS servers. It is safe for concurrent use.
type Resolver struct {
	// fixed are the servers to ask; system, if there are none, reads those of the operating system.
	fixed  []string
	system *system

	mu    sync.Mutex
	kept  map[question]*answer
	mute  map[string]time.Time // since when a server has not answered
	now   func() time.Time
	after time.Duration
}

type question struct {
	name string // in lower case, with its final dot
	kind uint16
}

// answer is what is known of a question. It is never changed.
type answer struct {
	addresses []netip.Addr
	services  []Service
	// absent tells that the name does not exist, or has nothing of the kind.
	absent bool
	// until is when it has to be asked for again, expired when its TTL ended.
	until, expired time.Time
}

// Service is one server of a service.
type Service struct {
	Host string // without a final dot
	Port int
	// Priority and Weight are those of RFC 2782.
	Priority, Weight uint16
}

// New makes a resolver that asks these servers, each an address with a port, in this order; without any, those of the
// operating system.
func New(servers ...string) *Resolver {
	r := &Resolver{fixed: servers, kept: map[question]*answer{}, mute: map[string]time.Time{}, now: time.Now,
		after: besideAfter}
	if len(servers) == 0 {
		r.system = &system{}
	}
	return r
}

// shared are the resolvers in use, so that what one has learnt outlives a change of the configuration.
var shared struct {
	sync.Mutex
	all   map[string]*Resolver
	order []string
}

// maxShared bounds the resolvers that are shared.
const maxShared = 64

// For returns the resolver of some servers, the same one each time.
func For(servers ...string) *Resolver {
	key := strings.Join(servers, " ")
	shared.Lock()
	defer shared.Unlock()
	if r := shared.all[key]; r != nil {
		return r
	}
	if shared.all == nil {
		shared.all = map[string]*Resolver{}
	}
	if len(shared.order) == maxShared {
		delete(shared.all, shared.order[0])
		shared.order = shared.order[1:]
	}
	r := New(servers...)
	shared.all[key], shared.order = r, append(shared.order, key)
	return r
}

// Addresses finds the addresses of a host, IPv4 first. An address is its own. Errors are of type *net.DNSError.
func (r *Resolver) Addresses(ctx context.Context, host string) ([]netip.Addr, error) {
	if addr, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{addr}, nil
	}
	if r.system != nil {
		if known := r.system.host(host); len(known) > 0 {
			return known, nil
		}
	}
	var last error
	for _, name := range r.names(host) {
		list, err := r.both(ctx, name)
		if err == nil {
			return list, nil
		}
		if last = err; !err.IsNotFound {
			break
		}
	}
	return nil, last
}

// both asks for addresses of both kinds side by side.
func (r *Resolver) both(ctx context.Context, name string) ([]netip.Addr, *net.DNSError) {
	six := make(chan []netip.Addr, 1)
	go func() {
		a, _ := r.ask(ctx, question{name, dns.TypeAAAA})
		if a == nil {
			a = &answer{}
		}
		six <- a.addresses
	}()
	four, err := r.ask(ctx, question{name, dns.TypeA})
	if err == nil {
		var more []netip.Addr
		if len(four.addresses) > 0 { // nobody waits for what may never come
			select {
			case more = <-six:
			case <-time.After(r.after / 6):
			}
		} else {
			more = <-six
		}
		if list := slices.Concat(four.addresses, more); len(list) > 0 {
			return list, nil
		}
		return nil, &net.DNSError{Err: "no such host", Name: strings.TrimSuffix(name, "."), IsNotFound: true}
	}
	if more := <-six; len(more) > 0 {
		return more, nil
	}
	return nil, err
}

// Services lists the servers of a service such as _ldap._tcp.lantern.example, by priority, then by weight, the heaviest
// first. Errors are of type *net.DNSError.
func (r *Resolver) Services(ctx context.Context, name string) ([]Service, error) {
	a, err := r.ask(ctx, question{dns.CanonicalName(name), dns.TypeSRV})
	switch {
	case err != nil:
		return nil, err
	case a.absent:
		return nil, &net.DNSError{Err: "no such service", Name: name, IsNotFound: true}
	}
	return slices.Clone(a.services), nil
}

// names are the full names to try for a host: as it is if it has a dot, else under the search domains of the system.
func (r *Resolver) names(host string) []string {
	full := dns.CanonicalName(host)
	if r.system == nil || strings.HasSuffix(host, ".") {
		return []string{full}
	}
	var under []string
	for _, domain := range r.system.search() {
		under = append(under, dns.CanonicalName(host+"."+domain))
	}
	if strings.Contains(host, ".") {
		return append([]string{full}, under...)
	}
	return append(under, full)
}

// ask answers from what is kept while it is good, else from the servers, else from what is kept.
func (r *Resolver) ask(ctx context.Context, q question) (*answer, *net.DNSError) {
	now := r.now()
	r.mu.Lock()
	have := r.kept[q]
	r.mu.Unlock()
	if have != nil && now.Before(have.until) {
		return have, nil
	}
	limited, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	if have != nil { // old, and still better than to be late
		limited, cancel = context.WithTimeout(limited, 2*r.after)
		defer cancel()
	}
	fresh, err := r.servers(limited, q)
	switch {
	case err == nil:
		r.keep(q, fresh)
		return fresh, nil
	case have == nil || have.absent || now.Sub(have.expired) > keepStale:
		return nil, err
	}
	again := *have // the next ones need not wait as well
	again.until = r.now().Add(askAgain)
	r.keep(q, &again)
	return have, nil
}

func (r *Resolver) keep(q question, a *answer) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.kept) >= maxKept {
		for old := range r.kept { // any: a map has no order
			delete(r.kept, old)
			break
		}
	}
	r.kept[q] = a
}

// Dialer connects to hosts by name. It has the method of net.Dialer.
type Dialer struct {
	net.Dialer
	Names *Resolver
}

// DialContext connects to host:port, to one address of the host after the other.
func (d *Dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	limited, cancel := ctx, context.CancelFunc(func() {})
	if d.Timeout > 0 {
		limited, cancel = context.WithTimeout(ctx, d.Timeout)
	}
	defer cancel()
	list, err := d.Names.Addresses(limited, host)
	if err != nil {
		return nil, err
	}
	var errs []error
	for i, addr := range list {
		each, done := limited, context.CancelFunc(func() {})
		if end, ok := limited.Deadline(); ok && i < len(list)-1 { // a silent one leaves time for the others
			each, done = context.WithTimeout(limited, time.Until(end)/time.Duration(len(list)-i))
		}
		conn, err := d.Dialer.DialContext(each, network, net.JoinHostPort(addr.String(), port))
		done()
		if err == nil {
			return conn, nil
		}
		errs = append(errs, err)
	}
	if len(errs) == 1 {
		return nil, errs[0]
	}
	return nil, errors.Join(errs...)
}
