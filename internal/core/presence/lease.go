package presence

import "net/netip"

func (b *Book) leased(s *Sighting) (touched []netip.Addr, err error) {
	if b.at(s.Address) == nil && b.places.n >= maxPlaces {
		return nil, ErrFull
	}
	at := s.At.UnixMilli()
	p := b.place(s.Address)
	l := p.lease
	switch {
	case l == nil || l.device.mac != s.MAC && newer(at, s.ID, l.last, l.id):
		before := int64(0)
		if l != nil {
			before = l.last
			b.unlease(p)
		}
		l = &lease{place: p, first: at, last: at, until: s.Until.UnixMilli(), id: s.ID, before: before}
		touched = b.lease(p, l, s.MAC)
	case l.device.mac == s.MAC:
		if at < l.first && at > l.before && at > l.released && s.Until.UnixMilli() >= l.first {
			l.first = at
		}
		if newer(at, s.ID, l.last, l.id) {
			if !l.live(at) { // given anew
				l.first = at
			}
			l.last, l.id, l.until = at, s.ID, s.Until.UnixMilli()
		}
	default: // of a device that had it before
		if l.before = max(l.before, at); l.first < at {
			l.first = l.last
		}
	}
	b.wheel.put(l.until, nil, p)
	return append(touched, s.Address), nil
}

// lease gives an address to a device. One that has too many loses the oldest.
func (b *Book) lease(p *place, l *lease, mac MAC) (touched []netip.Addr) {
	d := b.device(mac)
	count, oldest := 0, d.leases
	for o := d.leases; o != nil; o = o.next {
		if count++; o.last < oldest.last {
			oldest = o
		}
	}
	if count >= maxLeases {
		touched = append(touched, oldest.place.address())
		b.unlease(oldest.place)
		b.tidy(oldest.place)
	}
	l.device, l.next, d.leases, p.lease = d, d.leases, l, l
	return touched
}

// unlease takes an address from the device that has it.
func (b *Book) unlease(p *place) {
	l := p.lease
	at := &l.device.leases
	for *at != l {
		at = &(*at).next
	}
	*at, p.lease = l.next, nil
	b.tidyDevice(l.device)
}

func (b *Book) released(s *Sighting) []netip.Addr {
	p := b.at(s.Address)
	if p == nil || p.lease == nil || p.lease.device.mac != s.MAC {
		return nil
	}
	p.lease.released = max(p.lease.released, s.At.UnixMilli())
	return []netip.Addr{s.Address}
}
