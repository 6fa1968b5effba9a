package presence

import (
	"encoding/binary"
	"errors"
	"hash/maphash"
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
	claims  index[claim]
	places  index[place]
	devices index[device]
	people  index[Person]
	groups  map[string]*[]string // that people are in together, so that they are kept once
	origins map[Origin]*Origin
	latest  *Origin
	wheel   wheel
	held    int // entries that were told
	// stood, holding and was are used again whenever an address is settled.
	stood   []stand
	holding []held
	was     [1]held
	// crowds are those who are at an address together, where there are several.
	crowds map[*place][]held
	// contested are the addresses at which somebody lost to another person.
	contested map[netip.Addr]bool
	// bySource counts the claims of each source, left those of people who left before they were heard of.
	bySource map[string]int
	left     int
	// gathered are the places that were added since Gather was called, in that order; nil when it was not.
	gathered []*place
	later    bool // none was settled yet
	fresh    struct {
		claims  slab[claim]
		places  slab[place]
		devices slab[device]
		people  slab[Person]
	}
}

// NewBook is an empty one.
func NewBook() *Book {
	return &Book{claims: newIndex(func(c *claim) uint64 { return uint64(c.key) }), places: newIndex((*place).hash),
		devices: newIndex(func(d *device) uint64 { return d.mac.hash() }),
		people:  newIndex(func(p *Person) uint64 { return hashOf(p.Name) }),
		groups:  map[string]*[]string{}, origins: map[Origin]*Origin{}, wheel: newWheel(),
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
	return key(maphash.Bytes(seed, text))
}

// seed is another one in each process, so that nobody can make up what collides.
var seed = maphash.MakeSeed()

func hashOf(text string) uint64 { return maphash.String(seed, text) }

func (b *Book) claim(k key) *claim {
	return b.claims.find(uint64(k), func(c *claim) bool { return c.key == k })
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
	c := b.claim(key)
	if c != nil && c.who.Name != s.Who {
		if !newer(at, s.ID, c.last, c.latest) {
			return nil, nil
		}
		touched = b.touch(c, nil) // somebody else goes on with it
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
		return b.touch(c, nil), err
	case c.over || at > c.until: // another stay
		touched = b.touch(c, nil)
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
	touched = b.touch(c, touched)
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
	return b.touch(c, touched), nil
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
	c := b.fresh.claims.one()
	*c = claim{key: key, from: b.origin(&s.Origin), ports: s.Ports, since: secondOf(at), signed: at, last: at,
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
	c.who.add(c)
	b.claims.add(uint64(key), c)
	b.bySource[c.from.Source]++
	if c.early {
		b.left++
	}
	b.wheel.put(c.until, c, nil)
	return b.touch(c, nil), nil
}

// leave takes a claim away altogether but for its person.
func (b *Book) leave(c *claim) {
	b.take(c)
	if c.who.remove(c); len(c.who.claims()) == 0 {
		b.people.remove(c.who)
	}
}

// forget removes a claim.
func (b *Book) forget(c *claim) {
	b.leave(c)
	b.claims.remove(c)
	c.due = 0
	if b.bySource[c.from.Source]--; b.bySource[c.from.Source] <= 0 {
		delete(b.bySource, c.from.Source)
	}
	b.heardOf(c)
}

func (b *Book) signedOut(s *Sighting) (touched []netip.Addr, err error) {
	at := s.At.UnixMilli()
	if s.Ref == "" && (s.Who == "" || !s.Address.IsValid() && s.MAC == 0) { // everybody there, or one everywhere
		var list []*claim
		if s.Who == "" {
			if p := b.at(s.Address); p != nil {
				for c := p.claims; c != nil; c = c.here {
					list = append(list, c)
				}
			}
		} else if p := b.named(s.Who); p != nil {
			list = slices.Clone(p.claims())
		}
		for _, c := range list {
			if c.from.Source == s.Source && (s.Ports.All() || s.Ports == c.ports) {
				touched = b.end(c, s, at, touched)
			}
		}
		return touched, nil
	}
	key := s.key()
	if c := b.claim(key); c != nil {
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
		return b.touch(c, touched)
	}
	c.left = max(c.left, secondOf(at))
	touched = b.touch(c, touched)
	if c.over || at < c.until {
		c.until = at
	}
	if c.device == nil && s.MAC != 0 && b.move(c, netip.Addr{}, s.MAC, c.ports) == nil {
		touched = b.touch(c, touched)
	}
	c.over, c.last, c.latest = true, at, s.ID
	b.wheel.put(c.until, c, nil)
	return touched
}

// touch is around, for those that are to be settled: none where all are settled in the end.
func (b *Book) touch(c *claim, touched []netip.Addr) []netip.Addr {
	if b.later {
		return touched
	}
	return b.around(c, touched)
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
	p := b.at(a)
	if p == nil {
		p = b.fresh.places.one()
		p.raw, p.is4 = a.As16(), a.Is4()
		if b.places.add(p.hash(), p); b.gathered != nil {
			b.gathered = append(b.gathered, p)
		}
	}
	return p
}

// tidy removes a place at which nothing is left.
func (b *Book) tidy(p *place) {
	if p.claims == nil && p.lease == nil && p.told.claim == nil {
		b.places.remove(p)
		p.gone = true
	}
}

func (b *Book) device(m MAC) *device {
	hash := m.hash()
	d := b.devices.find(hash, func(d *device) bool { return d.mac == m })
	if d == nil {
		d = b.fresh.devices.one()
		d.mac = m
		b.devices.add(hash, d)
	}
	return d
}

func (b *Book) tidyDevice(d *device) {
	if d.claims == nil && d.leases == nil {
		b.devices.remove(d)
	}
}

func (b *Book) person(name string) *Person {
	hash := hashOf(name)
	p := b.people.find(hash, func(p *Person) bool { return p.Name == name })
	if p == nil {
		p = b.fresh.people.one()
		p.Name = strings.Clone(name) // which may be part of much more
		b.people.add(hash, p)
	}
	return p
}

func (b *Book) origin(o *Origin) *Origin {
	if b.latest != nil && *b.latest == *o {
		return b.latest
	}
	have := b.origins[*o]
	if have == nil {
		have = &Origin{Source: strings.Clone(o.Source), Way: strings.Clone(o.Way), Trust: o.Trust, Shared: o.Shared,
			Role: strings.Clone(o.Role)} // none keeps the block that it was read from
		if len(b.origins) < maxOrigins {
			b.origins[*have] = have
		}
	}
	b.latest = have
	return have
}
