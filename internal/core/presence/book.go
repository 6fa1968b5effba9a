package presence

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Late is how late a sighting may arrive, and still come to what it would have come to in its time.
const Late = 10 * time.Minute

// Limits of what one address or device is allowed, so that a flood about one costs the others nothing.
const (
	maxAtAddress = 2048
	maxOfDevice  = 128
	maxLeases    = 32
	// maxClaims and maxPlaces bound what is known altogether; maxOfSource is how many claims one source may have, and
	// maxLeft how many are kept of people who left before they were heard of: a source is not to take all the room.
	maxClaims   = 2_000_000
	maxPlaces   = 2_000_000
	maxOfSource = 1_200_000
	maxLeft     = 50_000
	// maxOrigins bounds how many origins are shared: roles may be anything that a source says.
	maxOrigins = 10_000
)

// ErrCrowded is returned for a sighting about an address or a device of which too much is reported.
var ErrCrowded = errors.New("too many people are reported at this address")

// ErrFull is returned for a sighting for which there is no room.
var ErrFull = errors.New("there is no room for more")

// Book holds what was sighted. It is not safe for concurrent use.
type Book struct {
	claims  map[key]*claim
	places  places
	devices map[MAC]*device
	people  map[string]*Person
	origins map[Origin]*Origin
	wheel   wheel
	held    int     // entries that were told
	scratch []stand // used again whenever an address is settled
	// crowds are those who are at an address together, where there are several.
	crowds map[*place][]held
	// contested are the addresses at which somebody lost to another person.
	contested map[netip.Addr]bool
	// bySource counts the claims of each source, left those of people who left before they were heard of.
	bySource map[string]int
	left     int
}

// NewBook is an empty one.
func NewBook() *Book {
	return &Book{claims: map[key]*claim{}, places: newPlaces(), devices: map[MAC]*device{},
		people: map[string]*Person{}, origins: map[Origin]*Origin{}, wheel: newWheel(),
		contested: map[netip.Addr]bool{}, crowds: map[*place][]held{}, bySource: map[string]int{}}
}

// key is that of the claim that a sighting is about.
func (s *Sighting) key() key {
	text := make([]byte, 0, 128)
	text = append(append(text, s.Source...), 0)
	if s.Ref != "" {
		text = append(append(text, 1), s.Ref...)
	} else {
		text = append(append(text, 2), s.Who...)
		text = append(text, 0)
		if s.Address.IsValid() {
			at := s.Address.As16()
			text = append(text, at[:]...)
		} else {
			text = binary.BigEndian.AppendUint64(text, uint64(s.MAC))
		}
		text = binary.BigEndian.AppendUint16(text, s.Ports.First)
		text = binary.BigEndian.AppendUint16(text, s.Ports.Last)
	}
	sum := sha256.Sum256(text)
	return key(binary.BigEndian.Uint64(sum[:]))
}

// newer orders words by when they happened, and those of one moment by their identifiers.
func newer(at, id, thanAt, thanID int64) bool { return at > thanAt || at == thanAt && id > thanID }

// Apply takes a sighting in, which has been checked, and lists the addresses at which it may have changed something.
// Each has to be settled.
func (b *Book) Apply(s *Sighting) (touched []netip.Addr, err error) {
	switch s.Kind {
	case Leased:
		return b.leased(s)
	case Released:
		return b.released(s), nil
	case SignedOut:
		return b.signedOut(s)
	}
	return b.signedIn(s)
}

func (b *Book) signedIn(s *Sighting) (touched []netip.Addr, err error) {
	at, key := s.At.UnixMilli(), s.key()
	c := b.claims[key]
	if c != nil && c.who.Name != s.Who {
		if !newer(at, s.ID, c.last, c.latest) {
			return nil, nil
		}
		touched = b.around(c, nil) // somebody else goes on with it
		b.forget(c)
		more, err := b.begin(key, s, at)
		return append(touched, more...), err
	}
	switch {
	case c == nil:
		return b.begin(key, s, at)
	case at <= c.left.milli() && !c.over: // it is of an earlier stay
		return nil, nil
	case c.over && at <= c.until: // it is from before the person left
		if c.device == nil && s.MAC != 0 {
			err = b.move(c, netip.Addr{}, s.MAC, c.ports)
		}
		return b.around(c, nil), err
	case c.over || at > c.until: // another stay
		touched = b.around(c, nil)
		b.take(c)
		if err := b.put(c, s.Address, s.MAC); err != nil {
			return touched, err
		}
		c.ports = s.Ports
		c.since, c.signed, c.id, c.over, c.begun = secondOf(at), at, s.ID, false, s.Kind == SignedIn
		b.heardOf(c)
	case at < c.since.milli():
		c.since = secondOf(at)
	}
	touched = b.around(c, touched)
	switch later := newer(at, s.ID, c.signed, c.id); {
	case s.Kind == SignedIn && (later || !c.begun):
		c.signed, c.id, c.begun = at, s.ID, true
	case !later && !c.begun:
		c.signed, c.id = at, s.ID
	}
	if newer(at, s.ID, c.last, c.latest) {
		c.last, c.latest, c.until = at, s.ID, s.Until.UnixMilli()
		if err := b.move(c, s.Address, s.MAC, s.Ports); err != nil {
			return touched, err
		}
		c.from = b.origin(&s.Origin)
		if s.Host != "" && (c.host == nil || *c.host != s.Host) {
			c.host = hostOf(s)
		}
	} else if c.device == nil && s.MAC != 0 {
		if err := b.move(c, netip.Addr{}, s.MAC, c.ports); err != nil {
			return touched, err
		}
	}
	b.name(c.who, s.Display)
	b.wheel.put(c.until, c, nil)
	return b.around(c, touched), nil
}

func (b *Book) name(p *Person, display string) {
	if display != "" && p.Display != display {
		p.Display = strings.Clone(display)
	}
}

// begin adds a claim.
func (b *Book) begin(key key, s *Sighting, at int64) ([]netip.Addr, error) {
	if err := b.hasRoom(s); err != nil {
		return nil, err
	}
	c := &claim{key: key, from: b.origin(&s.Origin), ports: s.Ports, since: secondOf(at), signed: at, last: at,
		until: s.Until.UnixMilli(), id: s.ID, latest: s.ID, begun: s.Kind == SignedIn}
	if s.Kind == SignedOut {
		c.over, c.until, c.left, c.early = true, at, secondOf(at), true
	}
	if s.Host != "" {
		c.host = hostOf(s)
	}
	c.who = b.person(s.Who)
	if err := b.put(c, s.Address, s.MAC); err != nil {
		b.leave(c)
		return nil, err
	}
	b.name(c.who, s.Display)
	c.who.claims = append(c.who.claims, c)
	b.claims[key] = c
	b.bySource[c.from.Source]++
	if c.early {
		b.left++
	}
	b.wheel.put(c.until, c, nil)
	return b.around(c, nil), nil
}

// leave takes a claim away altogether but for its person.
func (b *Book) leave(c *claim) {
	b.take(c)
	c.who.claims = without(c.who.claims, c)
	if len(c.who.claims) == 0 {
		delete(b.people, c.who.Name)
	}
}

// forget removes a claim.
func (b *Book) forget(c *claim) {
	b.leave(c)
	delete(b.claims, c.key)
	c.due = 0
	if b.bySource[c.from.Source]--; b.bySource[c.from.Source] <= 0 {
		delete(b.bySource, c.from.Source)
	}
	b.heardOf(c)
}

func without[T comparable](list []T, one T) []T {
	i := slices.Index(list, one)
	if i < 0 {
		return list
	}
	last := len(list) - 1
	list[i] = list[last]
	var none T
	list[last] = none
	if last == 0 {
		return nil
	}
	return list[:last]
}

func (b *Book) signedOut(s *Sighting) (touched []netip.Addr, err error) {
	at := s.At.UnixMilli()
	if s.Ref == "" && (s.Who == "" || !s.Address.IsValid() && s.MAC == 0) { // everybody there, or one everywhere
		var list []*claim
		if s.Who == "" {
			if p := b.places.at(s.Address); p != nil {
				for c := p.claims; c != nil; c = c.here {
					list = append(list, c)
				}
			}
		} else if p := b.people[s.Who]; p != nil {
			list = slices.Clone(p.claims)
		}
		for _, c := range list {
			if c.from.Source == s.Source && (s.Ports.All() || s.Ports == c.ports) {
				touched = b.end(c, s, at, touched)
			}
		}
		return touched, nil
	}
	key := s.key()
	if c := b.claims[key]; c != nil {
		return b.end(c, s, at, nil), nil
	}
	if s.Who == "" || !s.Address.IsValid() && s.MAC == 0 { // of one that is not known
		return nil, nil
	}
	return b.begin(key, s, at) // so that what comes late of it does not count
}

// hostOf is the host that a sighting names, apart from the rest of it.
func hostOf(s *Sighting) *string {
	host := strings.Clone(s.Host)
	return &host
}

// end notes that a person left. What the source said of later stands.
func (b *Book) end(c *claim, s *Sighting, at int64, touched []netip.Addr) []netip.Addr {
	switch {
	case c.over && at <= c.until:
		return touched
	case at < c.last: // it comes late: there is another stay since
		c.left = max(c.left, secondOf(at))
		if c.since.milli() <= at {
			c.since = secondOf(c.last)
		}
		if c.signed <= at {
			c.signed, c.id, c.begun = c.last, c.latest, false
		}
		return b.around(c, touched)
	}
	c.left = max(c.left, secondOf(at))
	touched = b.around(c, touched)
	if c.over || at < c.until {
		c.until = at
	}
	if c.device == nil && s.MAC != 0 && b.move(c, netip.Addr{}, s.MAC, c.ports) == nil {
		touched = b.around(c, touched)
	}
	c.over, c.last, c.latest = true, at, s.ID
	b.wheel.put(c.until, c, nil)
	return touched
}

// around adds the addresses at which a claim stands.
func (b *Book) around(c *claim, touched []netip.Addr) []netip.Addr {
	add := func(a netip.Addr) {
		if !slices.Contains(touched, a) {
			touched = append(touched, a)
		}
	}
	if c.place != nil {
		add(c.place.address())
	}
	if c.device != nil {
		for l := c.device.leases; l != nil; l = l.next {
			add(l.place.address())
		}
	}
	return touched
}

func (b *Book) place(a netip.Addr) *place {
	if p := b.places.at(a); p != nil {
		return p
	}
	return b.places.add(a)
}

// tidy removes a place at which nothing is left.
func (b *Book) tidy(p *place) {
	if p.claims == nil && p.lease == nil && p.told.claim == nil {
		b.places.remove(p)
	}
}

func (b *Book) device(m MAC) *device {
	d := b.devices[m]
	if d == nil {
		d = &device{mac: m}
		b.devices[m] = d
	}
	return d
}

func (b *Book) tidyDevice(d *device) {
	if d.claims == nil && d.leases == nil {
		delete(b.devices, d.mac)
	}
}

func (b *Book) person(name string) *Person {
	p := b.people[name]
	if p == nil {
		name = strings.Clone(name) // which may be part of much more
		p = &Person{Name: name}
		b.people[name] = p
	}
	return p
}

func (b *Book) origin(o *Origin) *Origin {
	have := b.origins[*o]
	if have == nil {
		if have = new(*o); len(b.origins) < maxOrigins {
			b.origins[*o] = have
		}
	}
	return have
}
