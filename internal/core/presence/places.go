package presence

import "net/netip"

// place is an address. There may be millions, so it is kept small: 64 octets.
type place struct {
	raw    [16]byte
	claims *claim // the first
	lease  *lease
	// told is who was there when it was settled last; of several it is one, and all stand in the crowds of the book.
	told  held
	count uint16 // of claims
	is4   bool
}

// held is who was at an address when it was settled last.
type held struct {
	claim *claim // nil for nobody
	from  *Origin
	turn  uint32
	ports Ports
}

func (p *place) address() netip.Addr {
	if p.is4 {
		return netip.AddrFrom4([4]byte(p.raw[12:]))
	}
	return netip.AddrFrom16(p.raw)
}

// places are addresses by what they are.
type places struct {
	v4 map[[4]byte]*place
	v6 map[[16]byte]*place
}

func newPlaces() places { return places{map[[4]byte]*place{}, map[[16]byte]*place{}} }

func (m *places) at(a netip.Addr) *place {
	if a.Is4() {
		return m.v4[a.As4()]
	}
	return m.v6[a.As16()]
}

func (m *places) add(a netip.Addr) *place {
	p := &place{raw: a.As16(), is4: a.Is4()}
	if p.is4 {
		m.v4[a.As4()] = p
	} else {
		m.v6[p.raw] = p
	}
	return p
}

func (m *places) remove(p *place) {
	if p.is4 {
		delete(m.v4, [4]byte(p.raw[12:]))
	} else {
		delete(m.v6, p.raw)
	}
}

func (m *places) len() int { return len(m.v4) + len(m.v6) }

// each goes through all, until it is told to stop.
func (m *places) each(yield func(*place) bool) {
	for _, p := range m.v4 {
		if !yield(p) {
			return
		}
	}
	for _, p := range m.v6 {
		if !yield(p) {
			return
		}
	}
}

// all are those who were at an address when it was settled last.
func (b *Book) all(p *place) []held {
	switch list := b.crowds[p]; {
	case list != nil:
		return list
	case p.told.claim != nil:
		return []held{p.told}
	}
	return nil
}

// tell notes who is at an address.
func (b *Book) tell(p *place, list []held) {
	p.told = held{}
	delete(b.crowds, p)
	if len(list) > 0 {
		p.told = list[0]
	}
	if len(list) > 1 {
		b.crowds[p] = list
	}
}
