package presence

import "net/netip"

// key tells claims apart: those of one source by what it calls them.
type key uint64

// claim is what a source said of a person's stay. There may be a million, so it is kept small: 128 octets.
type claim struct {
	key    key
	who    *Person
	from   *Origin
	host   *string
	place  *place  // that was reported, nil for none
	device *device // nil for none
	here   *claim  // the next at the same place
	beside *claim  // the next of the same device
	ports  Ports
	over   bool  // the source said that the person left, at the time in until
	early  bool  // that was the first word of the stay
	begun  bool  // a sign-in was reported; else signed is the first word of the stay
	signed int64 // the latest sign-in, in milliseconds
	last   int64 // the latest word
	until  int64
	id     int64  // the sighting of the latest sign-in
	latest int64  // the sighting of the latest word
	since  second // when the stay began
	left   second // the latest word that the person left
	due    second
}

// second is a moment to the second, of 1970 and after.
type second uint32

func secondOf(milli int64) second { return second(max(0, milli/1000)) }

func (s second) milli() int64 { return int64(s) * 1000 }

// lease is that of an address.
type lease struct {
	device          *device
	next            *lease // of the same device
	place           *place
	first, last     int64
	until, released int64
	id              int64
	// before is when another device was last told to have the address, 0 if none ever was.
	before int64
	due    second
}

// live tells that the device has the address at a moment.
func (l *lease) live(now int64) bool {
	return l != nil && now < l.until && (l.released == 0 || l.last > l.released)
}

// device is what is known of a MAC address. There may be a million: 24 octets.
type device struct {
	mac    MAC
	claims *claim // the first
	leases *lease // the first
}

// crowded tells that a device has as many claims as it may.
func (d *device) crowded() bool {
	n := 0
	for c := d.claims; c != nil; c = c.beside {
		n++
	}
	return n >= maxOfDevice
}

// hasRoom tells whether there is room for another claim.
func (b *Book) hasRoom(s *Sighting) error {
	if b.claims.n >= maxClaims || b.places.n >= maxPlaces || b.bySource[s.Source] >= maxOfSource ||
		s.Kind == SignedOut && b.left >= maxLeft {
		return ErrFull
	}
	return nil
}

// heardOf notes that a claim is no longer that of somebody who left before anything was heard.
func (b *Book) heardOf(c *claim) {
	if c.early {
		c.early = false
		b.left--
	}
}

// put puts a claim at an address and a device.
func (b *Book) put(c *claim, address netip.Addr, mac MAC) error {
	if address.IsValid() {
		p := b.place(address)
		if p.count >= maxAtAddress && !b.room(p) {
			return ErrCrowded
		}
		p.count++
		c.place, c.here, p.claims = p, p.claims, c
	}
	if mac != 0 {
		d := b.device(mac)
		if d.crowded() {
			return ErrCrowded
		}
		c.device, c.beside, d.claims = d, d.claims, c
	}
	return nil
}

// room gives up a claim that is over.
func (b *Book) room(p *place) bool {
	for c := p.claims; c != nil; c = c.here {
		if c.over {
			b.forget(c)
			return true
		}
	}
	return false
}

// move takes a claim to where its person is now. What is not said stays as it was.
func (b *Book) move(c *claim, address netip.Addr, mac MAC, ports Ports) error {
	if !address.IsValid() {
		address = c.address()
	}
	if mac == 0 {
		mac = c.mac()
	}
	if address == c.address() && mac == c.mac() && ports == c.ports {
		return nil
	}
	b.take(c)
	c.ports = ports
	return b.put(c, address, mac)
}

// address is the one that was reported, mac that of the device.
func (c *claim) address() (a netip.Addr) {
	if c.place != nil {
		a = c.place.address()
	}
	return a
}

func (c *claim) mac() (m MAC) {
	if c.device != nil {
		m = c.device.mac
	}
	return m
}

// alone tells that nobody else is reported where a claim stands, on its device or at an address that this was given.
func (c *claim) alone() bool {
	at := func(p *place) bool {
		return p == nil || p.claims == nil || p.claims == c && c.here == nil
	}
	if !at(c.place) || c.place != nil && c.place.lease != nil && c.place.lease.device != c.device {
		return false
	}
	d := c.device
	if d == nil {
		return true
	}
	for l := d.leases; l != nil; l = l.next {
		if !at(l.place) || l.first > c.last || l.released != 0 {
			return false
		}
	}
	return d.claims == c && c.beside == nil
}

// take takes a claim from where it stands.
func (b *Book) take(c *claim) {
	if p := c.place; p != nil {
		at := &p.claims
		for *at != c {
			at = &(*at).here
		}
		*at, c.here, c.place = c.here, nil, nil
		p.count--
		b.tidy(p)
	}
	if d := c.device; d != nil {
		at := &d.claims
		for *at != c {
			at = &(*at).beside
		}
		*at, c.beside, c.device = c.beside, nil, nil
		b.tidyDevice(d)
	}
}
