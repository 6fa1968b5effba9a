package presence

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/store"
)

// Answer is who is at an address, and why.
type Answer struct {
	Address netip.Addr
	Port    uint16
	At      time.Time
	// Here is who is there, nil for nobody; the first of Standings that counts for the port.
	Here *core.Standing
	// Standings are all claims with what became of each, Lease is that of the address.
	Standings []core.Standing
	Lease     *core.Lease
	// Rule is the one by which the address is left out, "" if it is watched.
	Rule string
}

// Who tells who is at an address and port now, or was at a moment.
func (k *Keeper) Who(ctx context.Context, address netip.Addr, port uint16, at time.Time) (Answer, error) {
	address = address.Unmap().WithZone("")
	a := Answer{Address: address, Port: port, At: at, Rule: k.current().scope.network(address)}
	if at.IsZero() {
		a.At = k.o.Now()
		k.mu.RLock()
		a.Standings, a.Lease = k.book.Explain(address, a.At)
		k.mu.RUnlock()
	} else {
		book, err := k.past(ctx, address, at)
		if err != nil {
			return a, err
		}
		a.Standings, a.Lease = book.Explain(address, at)
		k.named(a.Standings)
	}
	a.Here = here(a.Standings, port)
	return a, nil
}

// named adds how people are called, where they are known now.
func (k *Keeper) named(list []core.Standing) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for i := range list {
		if s := &list[i]; s.Display == "" {
			s.Display = k.book.Display(s.Who)
		}
	}
}

// Call adds to sightings how people are called, where they are known now.
func (k *Keeper) Call(list []store.Sighting) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for i := range list {
		if s := &list[i]; s.Display == "" && s.Who != "" {
			s.Display = k.book.Display(s.Who)
		}
	}
}

// here is whom a port belongs to: a block of ports goes before the whole address.
func here(list []core.Standing, port uint16) *core.Standing {
	var whole *core.Standing
	for i := range list {
		s := &list[i]
		switch {
		case s.Outcome != core.Holds:
		case s.Ports.All() && whole == nil:
			whole = s
		case !s.Ports.All() && port != 0 && s.Ports.Has(port):
			return s
		}
	}
	return whole
}

// maxPast bounds the sightings that the past is worked out from.
const maxPast = 20_000

// past makes the book of an address as it was at a moment: from what was reported of it, and of the devices that had
// it.
func (k *Keeper) past(ctx context.Context, address netip.Addr, at time.Time) (*core.Book, error) {
	k.o.Records.Flush(ctx)
	span := store.Span{Since: at.Add(-longestLease), Until: at.Add(time.Millisecond)}
	list, err := k.recorded(ctx, store.SightingFilter{Address: address.String(), Span: span})
	if err != nil {
		return nil, err
	}
	devices := map[core.MAC]bool{}
	for i := range list {
		if m := core.ParseMAC(list[i].MAC); m != 0 && !devices[m] {
			devices[m] = true
		}
	}
	for m := range devices {
		more, err := k.recorded(ctx, store.SightingFilter{MAC: m.String(), Span: span})
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	slices.SortFunc(list, func(a, b store.Sighting) int {
		if c := a.At.Compare(b.At); c != 0 {
			return c
		}
		return int(min(1, max(-1, a.Of-b.Of)))
	})
	book, seen := core.NewBook(), map[ident.ID]bool{}
	for i := range list {
		s, err := sightingOf(&list[i])
		if err != nil || seen[list[i].Of] || s.Check() != nil {
			continue
		}
		seen[list[i].Of] = true
		if _, err := book.Apply(&s); err != nil {
			return nil, fmt.Errorf("working out who was at %s: %w", address, err)
		}
	}
	return book, nil
}

func (k *Keeper) recorded(ctx context.Context, f store.SightingFilter) (out []store.Sighting, err error) {
	f.Limit = 2000
	for len(out) < maxPast {
		page, err := k.o.Records.Find(ctx, f)
		if err != nil {
			return nil, fmt.Errorf("reading the sightings: %w", err)
		}
		if out = append(out, page.Items...); page.Next == 0 {
			break
		}
		f.Before = page.Next
	}
	return out, nil
}

// List lists who is where, by address from one on; more tells that there are further ones.
func (k *Keeper) List(f Filter, match func(*core.Entry) bool, after netip.Addr, limit int) (out []core.Entry,
	more bool) {
	addresses := k.sorted()
	now := k.o.Now()
	from, found := slices.BinarySearchFunc(addresses, after, netip.Addr.Compare)
	if found && after.IsValid() {
		from++
	}
	for _, a := range addresses[from:] {
		if !f.near(a) {
			continue
		}
		k.mu.RLock()
		list := k.book.Entries(a, now)
		k.mu.RUnlock()
		list = slices.DeleteFunc(list, func(e core.Entry) bool { return !f.inGroup(e.Groups) || !match(&e) })
		if len(list) > 0 && len(out)+len(list) > limit && len(out) > 0 {
			return out, true
		}
		out = append(out, list...)
	}
	return out, false
}

// Name writes the name of a person as it stands in entries.
func (k *Keeper) Name(sent string) string { return strings.ToLower(k.o.Name(sent)) }

// sorted are the addresses at which somebody is, in order; as they were up to a second ago, since many may look.
func (k *Keeper) sorted() []netip.Addr {
	k.listing.Lock()
	defer k.listing.Unlock()
	if time.Since(k.listed) > time.Second {
		k.mu.RLock()
		k.addresses = k.book.Addresses()
		k.mu.RUnlock()
		slices.SortFunc(k.addresses, netip.Addr.Compare)
		k.listed = time.Now()
	}
	return k.addresses
}

// Person lists where a person is, and the claims of others that lost there, or of the person that lost elsewhere.
func (k *Keeper) Person(name string) (here []core.Entry, lost []core.Standing) {
	name = strings.ToLower(k.o.Name(name))
	now := k.o.Now()
	k.mu.RLock()
	defer k.mu.RUnlock()
	here = k.book.OfPerson(name, now)
	for _, a := range k.book.Around(name) {
		for _, s := range k.book.Conflict(a, now) {
			if s.Who == name || s.By == name {
				lost = append(lost, s)
			}
		}
	}
	return here, lost
}

// Here lists who is at an address now.
func (k *Keeper) Here(address netip.Addr) []core.Entry {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.book.Entries(address.Unmap().WithZone(""), k.o.Now())
}

// Named lists where people are whose name or display name holds a text in lower case, up to a limit.
func (k *Keeper) Named(text string, limit int) (out []core.Entry) {
	now := k.o.Now()
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, name := range k.book.Find(text, limit) {
		out = append(out, k.book.OfPerson(name, now)...)
	}
	return out[:min(len(out), limit)]
}

// maxPresent bounds how many hosts and sources are told of one person, someClaims the claims that are looked at.
const (
	maxPresent = 32
	someClaims = 256
)

// Present is where a person is, and who is at the address that the person comes from; a block of ports counts for its
// person there.
func (k *Keeper) Present(name string, from netip.Addr) (out Whereabouts) {
	name = strings.ToLower(k.o.Name(name))
	from = from.Unmap().WithZone("")
	now := k.o.Now()
	k.mu.RLock()
	defer k.mu.RUnlock()
	var latest time.Time
	for _, e := range k.book.SomeOfPerson(name, someClaims, now) {
		out.Count++
		if e.Signed.After(latest) {
			latest, out.Address = e.Signed, e.Address
		}
		for list, text := range map[*[]string]string{&out.Hosts: e.Host, &out.Sources: e.Source} {
			if text != "" && !slices.Contains(*list, text) && len(*list) < maxPresent {
				*list = append(*list, text)
			}
		}
	}
	slices.Sort(out.Hosts)
	slices.Sort(out.Sources)
	if !from.IsValid() {
		return out
	}
	for _, e := range k.book.Entries(from, now) {
		out.Others = out.Others || e.Who != name
		out.Self = out.Self || e.Who == name
	}
	return out
}

// Whereabouts are where a person is: at how many addresses, of which Address has the latest sign-in, and whether the
// person, or anybody else, is at the address that the person comes from.
type Whereabouts struct {
	Count          int
	Address        netip.Addr
	Hosts, Sources []string
	Self, Others   bool
}

// Len counts who is where.
func (k *Keeper) Len() int {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.book.Len()
}

// At is who is at an address and port, for those who ask often: nothing is worked out.
func (k *Keeper) At(address netip.Addr, port uint16) (who, role string, groups []string, ok bool) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	p, role, ok := k.book.At(address, port)
	if !ok {
		return "", "", nil, false
	}
	return p.Name, role, p.Groups(), true
}

// Conflicts lists claims that are alive and lost to another person, up to a limit.
func (k *Keeper) Conflicts(limit int) (out []core.Standing) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	now := k.o.Now()
	for _, a := range k.book.Contested() {
		if out = append(out, k.book.Conflict(a, now)...); len(out) >= limit {
			return out[:limit]
		}
	}
	return out
}

// Sightings lists what was reported.
func (k *Keeper) Sightings(ctx context.Context, f store.SightingFilter) (list []store.Sighting, next ident.ID,
	searched time.Time, err error) {
	page, err := k.o.Records.Find(ctx, f)
	return page.Items, page.Next, page.Searched, err
}
