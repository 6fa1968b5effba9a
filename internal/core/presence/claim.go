package presence

import "net/netip"

// Person is somebody whom sightings name. Groups are replaced, and never changed.
type Person struct {
	Name    string
	Display string
	Groups  []string
	// turn counts the changes of the groups.
	turn   uint32
	claims []*claim
}

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

// place is an address.
type place struct {
	address netip.Addr
	claims  *claim // the first
	lease   *lease
	told    held // who was there when it was settled last
	more    *[]held
	count   uint16 // of claims
}

// held is who was at an address when it was settled last.
type held struct {
	claim *claim // nil for nobody
	from  *Origin
	turn  uint32
	ports Ports
}

// all are those who were at an address when it was settled last.
func (p *place) all() []held {
	switch {
	case p.more != nil:
		return *p.more
	case p.told.claim != nil:
		return []held{p.told}
	}
	return nil
}

// tell notes who is at an address.
func (p *place) tell(list []held) {
	p.told, p.more = held{}, nil
	switch len(list) {
	case 0:
	case 1:
		p.told = list[0]
	default:
		p.told, p.more = list[0], &list
	}
}

// device is what is known of a MAC address.
type device struct {
	mac    MAC
	claims *claim // the first
	leases *lease // the first
	count  uint16 // of claims
}
