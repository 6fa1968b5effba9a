// Package kind tells what kind a device is, by what is seen of it: its address, what it asks a DHCP server for, how it
// calls itself. Rules of the administrator say what that means. A kind is a guess and proves nothing: whatever a device
// says of itself, another one can say.
package kind

import (
	"cmp"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/presence"
)

// Rules are compiled rules. They are immutable; nil has none.
type Rules struct {
	list []one
	// byMAC are the rules that name beginnings of addresses, by the beginning; lengths are how long those are in bits.
	byMAC   map[beginning][]int
	lengths []int
	// rest are the rules that name none.
	rest []int
}

type beginning struct {
	bits int
	mac  presence.MAC
}

// one is a rule: whatever kind of trait it lists, one of them has to fit.
type one struct {
	*config.DeviceKind
	kind facts.Kind
}

// Compile makes rules ready, nil if there are none.
func Compile(list []*config.DeviceKind) *Rules {
	if len(list) == 0 {
		return nil
	}
	r := &Rules{byMAC: map[beginning][]int{}}
	for _, k := range list {
		r.list = append(r.list, one{k, facts.Kind{Name: k.Kind, Rule: k.Name}})
	}
	slices.SortStableFunc(r.list, func(a, b one) int {
		return cmp.Or(a.Order-b.Order, b.Asks()-a.Asks(), strings.Compare(a.Name, b.Name))
	})
	for i, k := range r.list {
		if len(k.MACs) == 0 {
			r.rest = append(r.rest, i)
		}
		for _, text := range k.MACs {
			at, ok := beginningOf(text)
			if !ok {
				continue
			}
			r.byMAC[at] = append(r.byMAC[at], i)
			if !slices.Contains(r.lengths, at.bits) {
				r.lengths = append(r.lengths, at.bits)
			}
		}
	}
	return r
}

// beginningOf reads the beginning of an address of pairs of digits.
func beginningOf(text string) (out beginning, ok bool) {
	digits := strings.ReplaceAll(text, "-", "")
	if len(digits) == 0 || len(digits) > 12 {
		return out, false
	}
	whole := presence.ParseMAC(digits + strings.Repeat("0", 12-len(digits)))
	out.bits = 4 * len(digits)
	out.mac = whole >> (48 - out.bits)
	return out, strings.Trim(digits, "0123456789abcdef") == ""
}

// Of is the kind of a device by its address and what was seen of it, which may be nil; nil if no rule fits. Of several
// that fit the one with the lowest order decides; of those, the one that asks for more, then the first by name.
func (r *Rules) Of(mac string, t *facts.Traits) *facts.Kind {
	if r == nil || mac == "" {
		return nil
	}
	at := presence.ParseMAC(mac)
	if at == 0 {
		return nil
	}
	if t == nil {
		t = &none
	}
	best := -1
	try := func(list []int) {
		for _, i := range list {
			if best >= 0 && i >= best {
				return
			}
			if r.list[i].fits(t) {
				best = i
				return
			}
		}
	}
	for _, bits := range r.lengths {
		try(r.byMAC[beginning{bits, at >> (48 - bits)}])
	}
	if try(r.rest); best < 0 {
		return nil
	}
	return &r.list[best].kind
}

// none is what is seen of a device that was never seen.
var none facts.Traits

// fits reports whether what was seen of a device whose address fits is what the rule asks for.
func (k *one) fits(t *facts.Traits) bool {
	return (len(k.Fingerprints) == 0 || slices.Contains(k.Fingerprints, t.Fingerprint)) &&
		like(k.VendorClasses, t.VendorClass) && like(k.Hosts, t.Host)
}

// like reports whether a text is like one of some patterns, or there are none.
func like(patterns []string, text string) bool {
	return len(patterns) == 0 || text != "" && slices.ContainsFunc(patterns, func(p string) bool {
		return Like(p, text)
	})
}

// Like reports whether a text is like a pattern in lower case, in which * stands for any characters, without regard to
// the case of ASCII letters.
func Like(pattern, text string) bool {
	first, rest, open := strings.Cut(pattern, "*")
	if !open {
		return strings.EqualFold(pattern, text)
	}
	if len(text) < len(first) || !strings.EqualFold(text[:len(first)], first) {
		return false
	}
	text = text[len(first):]
	for {
		part, after, more := strings.Cut(rest, "*")
		if !more {
			return len(text) >= len(part) && strings.EqualFold(text[len(text)-len(part):], part)
		}
		at := indexFold(text, part)
		if at < 0 {
			return false
		}
		text, rest = text[at+len(part):], after
	}
}

func indexFold(text, part string) int {
	for at := 0; at+len(part) <= len(text); at++ {
		if strings.EqualFold(text[at:at+len(part)], part) {
			return at
		}
	}
	return -1
}
