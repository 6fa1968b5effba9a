package rule

import (
	"net/netip"
	"slices"
	"time"

	"tollgate.example/key/internal/core/calendar"
)

// solveList finds a list: one element for each comparison that some element has to fulfil, while none may fulfil those
// that have to fail.
func solveList(list []literal) (value, Answer) {
	var none []literal
	empty, some := false, false
	for _, l := range list {
		switch {
		case l.op == Exists && l.want:
			some = true
		case l.op == Exists:
			empty = true
		case !l.want:
			none = append(none, l)
		}
	}
	out := value{texts: []string{}}
	for _, l := range list {
		if !l.want || l.op == Exists {
			continue
		}
		if empty {
			return out, Impossible
		}
		if slices.ContainsFunc(out.texts, l.fits) {
			continue
		}
		text, answer := solveText(append([]literal{l}, none...), l.field)
		if answer != Possible {
			return out, answer
		}
		out.texts = append(out.texts, text)
	}
	if some && empty {
		return out, Impossible
	}
	if some && len(out.texts) == 0 {
		exists := literal{comparison{name: list[0].name, key: list[0].key, field: list[0].field, op: Exists}, true}
		text, answer := solveText(append(none, exists), list[0].field)
		if answer == Impossible { // an empty text may be an element, which is not tried
			answer = Unknown
		}
		if answer != Possible {
			return out, answer
		}
		out.texts = append(out.texts, text)
	}
	return out, Possible
}

// solveAddress tries the addresses at which the answer to any comparison can change, so that it finds one if there is
// one.
func solveAddress(list []literal) (value, Answer) {
	tries := []netip.Addr{{}, netip.AddrFrom4([4]byte{192, 0, 2, 7}), netip.IPv4Unspecified(), netip.IPv6Unspecified()}
	for i := range list {
		for _, text := range list[i].values {
			prefix, _ := parseAddress(text)
			first := prefix.Addr()
			last := lastOf(prefix)
			tries = append(tries, first.Next(), first, last.Next())
		}
	}
	for _, addr := range tries {
		if !slices.ContainsFunc(list, func(l literal) bool {
			if l.op == Exists {
				return addr.IsValid() != l.want
			}
			return l.testAddress()(addr) != l.want
		}) {
			return value{address: addr}, Possible
		}
	}
	return value{}, Impossible
}

func lastOf(p netip.Prefix) netip.Addr {
	octets := p.Addr().AsSlice()
	for bit := p.Bits(); bit < len(octets)*8; bit++ {
		octets[bit/8] |= 1 << (7 - bit%8)
	}
	last, _ := netip.AddrFromSlice(octets)
	return last
}

// solveAge tries the lengths at which the answer to any comparison changes.
func solveAge(list []literal) (value, Answer) {
	tries := []value{{}, {known: true, age: time.Hour}}
	for i := range list {
		if list[i].op != Exists {
			limit, _ := parseAge(list[i].values[0])
			tries = append(tries, value{known: true, age: limit}, value{known: true, age: limit - time.Second},
				value{known: true, age: limit + time.Second},
				value{known: true, age: limit - 1}, value{known: true, age: limit + 1})
		}
	}
	for _, v := range tries {
		if !slices.ContainsFunc(list, func(l literal) bool {
			limit := time.Duration(0)
			if l.op != Exists {
				limit, _ = parseAge(l.values[0])
			}
			fits := v.known
			switch l.op {
			case Within:
				fits = v.known && v.age <= limit
			case AtLeast:
				fits = v.known && v.age >= limit
			}
			return fits != l.want
		}) {
			return v, Possible
		}
	}
	return value{}, Impossible
}

// solveHours tries the moments at which calendars begin and end. With calendars of several zones, or near the change of
// clocks, there may be others.
func solveHours(list []literal, around time.Time) (value, Answer) {
	tries := []time.Time{around}
	for i := range list {
		for _, c := range list[i].hours {
			tries = append(tries, c.Edges(around)...)
		}
	}
	for _, at := range tries {
		if !slices.ContainsFunc(list, func(l literal) bool {
			return slices.ContainsFunc(l.hours, func(c *calendar.Calendar) bool { return c.Holds(at) }) != l.want
		}) {
			return value{at: at}, Possible
		}
	}
	if contradictory(list) {
		return value{}, Impossible
	}
	return value{}, Unknown
}
