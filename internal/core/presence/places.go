package presence

import (
	"encoding/binary"
	"hash/maphash"
	"net/netip"
	"slices"
)

// place is an address. There may be millions, so it is kept small: 64 octets.
type place struct {
	raw    [16]byte
	claims *claim // the first
	lease  *lease
	// told is who was there when it was settled last; of several it is one, and all stand in the crowds of the book.
	told  held
	count uint16 // of claims
	is4   bool
	gone  bool // it is not in the book any more
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

// hash is that of the address.
func (p *place) hash() uint64 { return maphash.Bytes(seed, p.raw[:]) }

func (m MAC) hash() uint64 {
	var raw [8]byte
	binary.BigEndian.PutUint64(raw[:], uint64(m))
	return maphash.Bytes(seed, raw[:])
}

// at is an address, nil if nothing is known of it.
func (b *Book) at(a netip.Addr) *place {
	raw, is4 := a.As16(), a.Is4()
	return b.places.find(maphash.Bytes(seed, raw[:]), func(p *place) bool { return p.raw == raw && p.is4 == is4 })
}

// all are those who were at an address when it was settled last, in a list that is used again.
func (b *Book) all(p *place) []held {
	switch list := b.crowds[p]; {
	case list != nil:
		return list
	case p.told.claim != nil:
		b.was[0] = p.told
		return b.was[:]
	}
	return nil
}

// tell notes who is at an address.
func (b *Book) tell(p *place, list []held) {
	if p.told = (held{}); len(b.crowds) > 0 {
		delete(b.crowds, p)
	}
	if len(list) > 0 {
		p.told = list[0]
	}
	if len(list) > 1 {
		b.crowds[p] = slices.Clone(list)
	}
}
