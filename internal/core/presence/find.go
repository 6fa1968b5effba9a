package presence

import (
	"maps"
	"net/netip"
	"slices"
	"time"
)

// Len counts who is where: the entries that were settled.
func (b *Book) Len() int { return b.held }

// At is who was at an address and port when it was settled last: of the person whose ports these are, or else of the
// whole address; ok is false for nobody.
func (b *Book) At(address netip.Addr, port uint16) (who *Person, role string, ok bool) {
	p := b.at(address)
	if p == nil {
		return nil, "", false
	}
	var whole *held
	crowd := b.crowds[p]
	if crowd == nil {
		if h := &p.told; h.claim != nil && (h.ports.All() || port != 0 && h.ports.Has(port)) {
			return h.claim.who, h.from.Role, true
		}
		return nil, "", false
	}
	for i := range crowd {
		h := &crowd[i]
		switch {
		case h.ports.All():
			if whole == nil {
				whole = h
			}
		case port != 0 && h.ports.Has(port):
			return h.claim.who, h.from.Role, true
		}
	}
	if whole == nil {
		return nil, "", false
	}
	return whole.claim.who, whole.from.Role, true
}

// Entries are who is at an address.
func (b *Book) Entries(address netip.Addr, now time.Time) (out []Entry) {
	p := b.at(address)
	if p == nil {
		return nil
	}
	list := b.stands(p, now.UnixMilli())
	for i := range list {
		if list[i].outcome == Holds {
			out = append(out, entry(p, &list[i]))
		}
	}
	return out
}

// OfPerson are the places of a person.
func (b *Book) OfPerson(name string, now time.Time) (out []Entry) {
	return b.entriesOf(name, b.Around(name), now)
}

// SomeOfPerson is OfPerson of so many claims at most, for those who may not wait: a name may be at very many addresses.
func (b *Book) SomeOfPerson(name string, most int, now time.Time) (out []Entry) {
	who := b.named(name)
	if who == nil {
		return nil
	}
	var at []netip.Addr
	for _, c := range who.claims()[:min(len(who.claims()), most)] {
		at = b.around(c, at)
	}
	slices.SortFunc(at, netip.Addr.Compare)
	return b.entriesOf(name, at, now)
}

func (b *Book) entriesOf(name string, at []netip.Addr, now time.Time) (out []Entry) {
	for _, a := range at {
		for _, e := range b.Entries(a, now) {
			if e.Who == name {
				out = append(out, e)
			}
		}
	}
	return out
}

// Around are the addresses at which claims on a person stand, in order.
func (b *Book) Around(name string) (at []netip.Addr) {
	if who := b.named(name); who != nil {
		for _, c := range who.claims() {
			at = b.around(c, at)
		}
	}
	slices.SortFunc(at, netip.Addr.Compare)
	return at
}

// Addresses are all at which somebody is, in no order.
func (b *Book) Addresses() []netip.Addr {
	out := make([]netip.Addr, 0, b.places.n)
	for p := range b.places.each {
		if p.told.claim != nil {
			out = append(out, p.address())
		}
	}
	return out
}

// Free tells that neither another device has an address, nor anybody is there who is not known to have this one.
func (b *Book) Free(address netip.Addr, mac MAC, now time.Time) bool {
	p := b.at(address)
	if p == nil {
		return true
	}
	at := now.UnixMilli()
	if p.lease.live(at) && p.lease.device.mac != mac {
		return false
	}
	for c := p.claims; c != nil; c = c.here {
		if !c.over && at < c.until && c.mac() != mac {
			return false
		}
	}
	return true
}

// Standing is a claim at an address with what became of it.
type Standing struct {
	Entry
	Outcome Outcome
	// Last is the latest word of its source.
	Last time.Time
	// By names the person and the source to which it lost.
	By, BySource string
	// Leased tells that it stands there since its device was given the address.
	Leased bool
}

// Lease is that of an address.
type Lease struct {
	MAC            MAC
	Since, Until   time.Time
	Released, Gone bool
	Sighting       int64
}

// Explain lists all claims at an address, the strongest first, with what becomes of each, and the lease of the address
// if there was one.
func (b *Book) Explain(address netip.Addr, now time.Time) (out []Standing, l *Lease) {
	p := b.at(address)
	if p == nil {
		return nil, nil
	}
	list := b.stands(p, now.UnixMilli())
	for i := range list {
		s := &list[i]
		one := Standing{Entry: entry(p, s), Outcome: s.outcome, Last: time.UnixMilli(s.last), Leased: s.leased}
		if s.by != nil {
			one.By, one.BySource = s.by.who.Name, s.by.from.Source
		}
		out = append(out, one)
	}
	if p.lease != nil {
		l = &Lease{
			MAC:      p.lease.device.mac,
			Since:    time.UnixMilli(p.lease.first),
			Until:    time.UnixMilli(p.lease.until),
			Released: p.lease.released >= p.lease.last,
			Gone:     !p.lease.live(now.UnixMilli()),
			Sighting: p.lease.id,
		}
	}
	return out, l
}

// Stay is what tells people at one address apart as one source reports them.
type Stay struct {
	Who   string
	Ports Ports
}

// Reported lists who is at an address as a source reports it, whether or not somebody else is there by another one.
func (b *Book) Reported(source string, address netip.Addr, now time.Time) (out []Stay) {
	p := b.at(address)
	if p == nil {
		return nil
	}
	for c := p.claims; c != nil; c = c.here {
		if c.from.Source == source && !c.over && c.until > now.UnixMilli() {
			out = append(out, Stay{c.who.Name, c.ports})
		}
	}
	return out
}

// LastWord is when the source of a sighting last said something of the stay that it might go on with, zero if it never
// did: what is older changes nothing any more.
func (b *Book) LastWord(s *Sighting) time.Time {
	c := b.claim(s.key())
	if c == nil {
		return time.Time{}
	}
	last := max(c.last, c.left.milli())
	if c.over {
		last = max(last, c.until)
	}
	return time.UnixMilli(last)
}

// Contested are the addresses at which somebody lost to another person when they were settled last, in order.
func (b *Book) Contested() []netip.Addr {
	return slices.SortedFunc(maps.Keys(b.contested), netip.Addr.Compare)
}

// Conflict lists the claims that are alive at an address and lost to another person.
func (b *Book) Conflict(address netip.Addr, now time.Time) (lost []Standing) {
	all, _ := b.Explain(address, now)
	for _, s := range all {
		if s.Outcome == Outranked || s.Outcome == Earlier {
			lost = append(lost, s)
		}
	}
	return lost
}

// Fresh tells that a sighting says nothing new: its person, or its lease, is known to be there and holds for most of
// the time that it would give.
func (b *Book) Fresh(s *Sighting) bool {
	switch s.Kind {
	case Still:
		return b.holds(s) != nil
	case Leased:
		p := b.at(s.Address)
		return p != nil && p.lease != nil && p.lease.device.mac == s.MAC && p.lease.live(s.At.UnixMilli()) &&
			s.At.UnixMilli() >= p.lease.last && s.most(p.lease.until)
	}
	return false
}

// most tells that what holds until a moment holds for most of the time that a sighting would give.
func (s *Sighting) most(has int64) bool {
	at, until := s.At.UnixMilli(), s.Until.UnixMilli()
	return at < has && (has-at)*4 > (until-at)*3
}

// holds is the claim by which it is known what a sighting says of a person; nil if it is not.
func (b *Book) holds(s *Sighting) *claim {
	c := b.claim(s.key())
	if c == nil || c.over || s.At.UnixMilli() < c.last || c.who.Name != s.Who || *c.from != s.Origin ||
		s.Address.IsValid() && c.address() != s.Address || s.MAC != 0 && c.mac() != s.MAC || c.ports != s.Ports ||
		!s.most(c.until) {
		return nil
	}
	return c
}

// sameSignIn is how long after a sign-in another one is the same one.
const sameSignIn = 2 * time.Second

// Repeated tells that a sign-in is the one that was reported a moment ago: of the same person at the same place, where
// nobody else is, so that the order among people, which sign-ins decide, does not need it. A source that reports who
// left is not to be asked: a late word that the person left before it would end what goes on.
func (b *Book) Repeated(s *Sighting) bool {
	c := b.holds(s)
	return s.Kind == SignedIn && c != nil && c.begun && s.At.UnixMilli()-c.signed < sameSignIn.Milliseconds() &&
		c.alone()
}

// Widespread lists people who are at more addresses than a person could be, with how many.
func (b *Book) Widespread(more int) map[string]int {
	out := map[string]int{}
	for p := range b.people.each {
		if len(p.claims()) <= more {
			continue
		}
		at := map[netip.Addr]bool{}
		for _, c := range p.claims() {
			if c.place != nil && !c.over {
				at[c.place.address()] = true
			}
		}
		if len(at) > more {
			out[p.Name] = len(at)
		}
	}
	return out
}

// Quiet lists networks of which many addresses are leased and nobody is at any, with how many: printers, cameras and
// guests, perhaps.
func (b *Book) Quiet(least int, now time.Time) map[netip.Prefix]int {
	leased, people := map[netip.Prefix]int{}, map[netip.Prefix]bool{}
	for p := range b.places.each {
		a, bits := p.address(), 64
		if a.Is4() {
			bits = 24
		}
		network, err := a.Prefix(bits)
		if err != nil {
			continue
		}
		if p.lease.live(now.UnixMilli()) {
			leased[network]++
		}
		people[network] = people[network] || p.claims != nil || p.told.claim != nil
	}
	for network, n := range leased {
		if n < least || people[network] {
			delete(leased, network)
		}
	}
	return leased
}
