package presence

import (
	"cmp"
	"net/netip"
	"slices"
	"time"
)

// Outcome is what became of a claim at an address.
type Outcome string

const (
	// Holds is a claim that says who is there.
	Holds Outcome = "holds"
	// Agrees is one that names the person who is there anyway.
	Agrees Outcome = "agrees"
	// Outranked is one beside a claim of a more trusted source, Earlier one beside a later sign-in.
	Outranked Outcome = "outranked"
	Earlier   Outcome = "earlier"
	// HandedOn is one from before the address was given to another device, GivenBack one from before its device gave
	// it back.
	HandedOn  Outcome = "handed-on"
	GivenBack Outcome = "given-back"
	// LeftElsewhere is one whose person left the address, as a more trusted source says.
	LeftElsewhere Outcome = "left"
	// Ended is one whose person left, Expired one of which nothing was heard for too long.
	Ended   Outcome = "ended"
	Expired Outcome = "expired"
)

// Counts tells that somebody is there by a claim with this outcome.
func (o Outcome) Counts() bool { return o == Holds || o == Agrees }

// stand is a claim at an address, with what becomes of it there.
type stand struct {
	*claim
	outcome Outcome
	by      *claim // to which it lost
	begins  int64  // when it began to count here
	ends    int64
	leased  bool // it stands here by a lease alone
}

// stands lists the claims at an address, the strongest first, with what becomes of each.
func (b *Book) stands(p *place, now int64) []stand {
	return b.standsIn(make([]stand, 0, int(p.count)+2), p, now)
}

// standsIn is stands, in a list that has room.
func (b *Book) standsIn(out []stand, p *place, now int64) []stand {
	for c := p.claims; c != nil; c = c.here {
		out = append(out, stand{claim: c, begins: c.since.milli(), ends: c.until})
	}
	if p.lease.live(now) {
		for c := p.lease.device.claims; c != nil; c = c.beside {
			if c.place == p { // it stands here by itself
				continue
			}
			out = append(out, stand{claim: c, begins: max(c.since.milli(), p.lease.first),
				ends: min(c.until, p.lease.until), leased: true})
		}
	}
	for i := range out {
		out[i].outcome = b.alone(p, &out[i], now)
	}
	for i := range out {
		if out[i].outcome == "" && leftElsewhere(&out[i], out) {
			out[i].outcome = LeftElsewhere
		}
	}
	slices.SortStableFunc(out, stronger)
	contest(out)
	return out
}

// alone is what a claim comes to at an address by itself, "" if it is alive.
func (b *Book) alone(p *place, s *stand, now int64) Outcome {
	l := p.lease
	switch {
	case s.over:
		return Ended
	case now >= s.until:
		return Expired
	case l == nil || s.leased:
		return ""
	case l.first > s.last && s.device != l.device && (s.device != nil || l.before != 0):
		return HandedOn
	case l.released != 0 && l.released >= l.last && s.last <= l.released && (s.device == nil || s.device == l.device):
		return GivenBack
	}
	return ""
}

// leftElsewhere tells that a more trusted source said that the person left since.
func leftElsewhere(s *stand, all []stand) bool {
	for i := range all {
		if o := &all[i]; o.outcome == Ended && o.who == s.who && o.from.Trust < s.from.Trust &&
			o.from.Source != s.from.Source && s.last <= o.until && (o.ports.All() || o.ports == s.ports) {
			return true
		}
	}
	return false
}

// stronger orders claims: those that are alive, then by trust, then the latest sign-in first.
func stronger(a, b stand) int {
	if (a.outcome == "") != (b.outcome == "") {
		if a.outcome == "" {
			return -1
		}
		return 1
	}
	if a.outcome != "" {
		return cmp.Or(cmp.Compare(b.until, a.until), cmp.Compare(b.id, a.id))
	}
	return cmp.Or(cmp.Compare(a.from.Trust, b.from.Trust), cmp.Compare(b.signed, a.signed), cmp.Compare(b.id, a.id))
}

// contest decides among claims that are alive, which come first and in order.
func contest(list []stand) {
	for i := range list {
		s := &list[i]
		if s.outcome != "" {
			return
		}
		s.outcome = Holds
		for j := range i {
			o := &list[j]
			if o.outcome != Holds || o.ports.All() != s.ports.All() || !o.ports.Overlap(s.ports) {
				continue
			}
			switch {
			case o.who == s.who:
				s.outcome = Agrees
			case o.from.Shared && s.from.Shared && o.from.Trust == s.from.Trust && s.ports.All():
				continue
			case o.from.Trust < s.from.Trust:
				s.outcome = Outranked
			default:
				s.outcome = Earlier
			}
			s.by = o.claim
			break
		}
	}
}

// Entry is somebody at an address.
type Entry struct {
	Address netip.Addr
	// Ports are those that belong to the person, zero for the whole address.
	Ports  Ports
	Who    string
	Groups []string
	Origin
	Display string
	MAC     MAC
	Host    string
	// Since is when the person came, Signed the latest sign-in; Until is when it is over without another word.
	Since, Signed, Until time.Time
	// Sighting is the sign-in by which the person is there.
	Sighting int64
}

func entry(p *place, s *stand) Entry {
	e := Entry{Address: p.address(), Ports: s.ports, Who: s.who.Name, Groups: s.who.Groups(), Display: s.who.Display,
		Origin: *s.from, MAC: s.mac(), Since: time.UnixMilli(s.begins), Signed: time.UnixMilli(s.signed),
		Until: time.UnixMilli(s.ends), Sighting: s.id}
	if s.host != nil {
		e.Host = *s.host
	}
	if l := p.lease; l != nil && e.MAC == 0 && l.last >= s.since.milli() {
		e.MAC = l.device.mac
	}
	return e
}

// Change is what changed at an address: somebody is there, in these groups and with this role, or no more.
type Change struct {
	Entry
	Gone bool
}

// Settle works out anew who is at an address, and appends what changed since it was settled last.
func (b *Book) Settle(address netip.Addr, now time.Time, changes []Change) []Change {
	p := b.at(address)
	if p == nil {
		delete(b.contested, address)
		return changes
	}
	before := b.all(p)
	list, after := b.settle(p, now)
	same := func(x, y held) bool { return x.claim.who.Name == y.claim.who.Name && x.ports == y.ports }
	for _, x := range before {
		if !slices.ContainsFunc(after, func(y held) bool { return same(x, y) }) {
			changes = append(changes, Change{Gone: true, Entry: Entry{Address: address, Ports: x.ports,
				Who: x.claim.who.Name, Display: x.claim.who.Display, Origin: *x.from}})
		}
	}
	for _, y := range after {
		i := slices.IndexFunc(before, func(x held) bool { return same(x, y) })
		if i < 0 || before[i].from.Role != y.from.Role || before[i].turn != y.turn {
			j := slices.IndexFunc(list, func(s stand) bool { return s.claim == y.claim })
			changes = append(changes, Change{Entry: entry(p, &list[j])})
		}
	}
	return changes
}

// settle notes who is at an address now, and returns all claims there with those that hold; both lists are used again.
func (b *Book) settle(p *place, now time.Time) (list []stand, after []held) {
	list, after, lost := b.standsIn(b.stood[:0], p, now.UnixMilli()), b.holding[:0], false
	for i := range list {
		s := &list[i]
		if lost = lost || s.outcome == Outranked || s.outcome == Earlier; s.outcome != Holds {
			continue
		}
		after = append(after, held{claim: s.claim, from: s.from, turn: s.who.turn, ports: s.ports})
		if s.leased {
			b.wheel.put(s.ends, s.claim, nil)
		}
	}
	if cap(list) <= maxScratch {
		b.stood, b.holding = list, after
	}
	if b.held += len(after) - len(b.all(p)); lost {
		b.contested[p.address()] = true
	} else if len(b.contested) > 0 {
		delete(b.contested, p.address())
	}
	b.tell(p, after)
	b.tidy(p)
	return list, after
}

// maxScratch bounds the lists that are kept to be used again.
const maxScratch = 256

// Gather remembers addresses in the order in which they become known, so that all can be settled in the end.
func (b *Book) Gather() {
	b.gathered, b.later = []*place{}, true
	b.many(true)
}

func (b *Book) many(are bool) {
	f := &b.fresh
	f.claims = slab[claim]{many: are}
	f.places = slab[place]{many: are}
	f.devices = slab[device]{many: are}
	f.people = slab[Person]{many: are}
}

// SettleGathered settles some of the addresses that were gathered, and tells that there are more. What changed is not
// worked out: nobody was told anything of them.
func (b *Book) SettleGathered(some int, now time.Time) (more bool) {
	b.later = false
	some = min(some, len(b.gathered))
	for _, p := range b.gathered[:some] {
		if !p.gone {
			b.settle(p, now)
		}
	}
	if b.gathered = b.gathered[some:]; len(b.gathered) == 0 {
		b.gathered = nil
		b.many(false)
	}
	return b.gathered != nil
}

// Due lists the addresses at which something may be over by now. Each has to be settled.
func (b *Book) Due(now time.Time) (touched []netip.Addr) {
	at := now.UnixMilli()
	b.wheel.due(at, func(c *claim, p *place) {
		switch {
		case c == nil:
			touched = append(touched, b.leaseDue(p, at)...)
		case b.claim(c.key) != c: // it was forgotten
		case at < c.until: // it goes on, and a lease under it may not
			touched = b.around(c, touched)
			b.wheel.put(c.until, c, nil)
		case at < c.until+Late.Milliseconds():
			touched = b.around(c, touched)
			b.wheel.put(c.until+Late.Milliseconds(), c, nil)
		case c.over && b.holdsOff(c, at): // what it keeps from counting would count again
			b.wheel.put(at+Late.Milliseconds(), c, nil)
		default:
			touched = b.around(c, touched)
			b.forget(c)
		}
	})
	return touched
}

// leaseDue removes a lease that is over for long, and at whose address nothing is left that it says something about.
func (b *Book) leaseDue(p *place, at int64) []netip.Addr {
	l := p.lease
	switch {
	case b.at(p.address()) != p || l == nil:
		return nil
	case at < l.until:
		b.wheel.put(l.until, nil, p)
	case at < l.until+Late.Milliseconds() || p.claims != nil:
		b.wheel.put(max(at, l.until)+Late.Milliseconds(), nil, p)
	default:
		b.unlease(p)
		b.tidy(p)
	}
	return []netip.Addr{p.address()}
}

// holdsOff tells that somebody would be there again if it were forgotten that the person left.
func (b *Book) holdsOff(c *claim, now int64) bool {
	for _, a := range b.around(c, nil) {
		for _, s := range b.stands(b.at(a), now) {
			if s.outcome == LeftElsewhere && s.who == c.who {
				return true
			}
		}
	}
	return false
}
