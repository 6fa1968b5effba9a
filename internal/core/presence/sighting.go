// Package presence resolves sightings into presence: who is at an address, at which of its ports, and why. It is pure:
// the time is handed in, nothing is read or written, and the same sightings come to the same whatever order they
// arrive in, as long as none is later than Late.
//
// A source reports that a person signed in, is still there, or left; and that a device was given an address. Each
// report of a person is a claim, which holds until the person leaves or its time is over. A claim stands at the address
// that was reported with it, and at those that its device was given. Of the claims that stand at an address the one of
// the most trusted source holds; among equals, that of the latest sign-in. A claim on a block of ports holds for those
// alone, and is stronger there than one on the whole address.
package presence

import (
	"errors"
	"fmt"
	"net/netip"
	"time"
)

// Kind is what a sighting reports.
type Kind string

const (
	// SignedIn is a person who signed in; Still is one who is still there; SignedOut is one who left. One that names
	// nobody is about everybody whom its source has reported at the address.
	SignedIn  Kind = "signed-in"
	Still     Kind = "still"
	SignedOut Kind = "signed-out"
	// Leased is a device that was given an address, or had its lease renewed; Released is one that gave it back.
	Leased   Kind = "leased"
	Released Kind = "released"
)

// Kinds are all of them.
var Kinds = []Kind{SignedIn, Still, SignedOut, Leased, Released}

// Ports are a block of ports; zero is the whole address.
type Ports struct{ First, Last uint16 }

// All tells that they are the whole address.
func (p Ports) All() bool { return p == Ports{} }

// Has tells that a port is among them.
func (p Ports) Has(port uint16) bool { return p.All() || port >= p.First && port <= p.Last }

// Overlap tells that two blocks have ports in common.
func (p Ports) Overlap(q Ports) bool { return p.First <= q.Last && q.First <= p.Last }

func (p Ports) String() string {
	if p.All() {
		return ""
	}
	return fmt.Sprintf("%d-%d", p.First, p.Last)
}

// MAC is the address of a device, 0 for none.
type MAC uint64

// ParseMAC reads one of 12 hexadecimal digits with any separators; 0 if it is none.
func ParseMAC(text string) (out MAC) {
	digits := 0
	for _, c := range []byte(text) {
		var d byte
		switch {
		case c >= '0' && c <= '9':
			d = c - '0'
		case c >= 'a' && c <= 'f':
			d = c - 'a' + 10
		case c >= 'A' && c <= 'F':
			d = c - 'A' + 10
		case c == ':' || c == '-' || c == '.':
			continue
		default:
			return 0
		}
		if digits++; digits > 12 {
			return 0
		}
		out = out<<4 | MAC(d)
	}
	if digits != 12 {
		return 0
	}
	return out
}

func (m MAC) String() string {
	if m == 0 {
		return ""
	}
	const digits = "0123456789abcdef"
	var out [17]byte
	for i, shift := 0, 40; ; i, shift = i+3, shift-8 {
		b := byte(m >> shift)
		out[i], out[i+1] = digits[b>>4], digits[b&15]
		if shift == 0 {
			return string(out[:])
		}
		out[i+2] = '-'
	}
}

// Origin is whom a sighting comes from, and how far it counts.
type Origin struct {
	// Source is the name of the source, Way the kind of it.
	Source string
	Way    string
	// Trust is 1 for the most trusted sources, up to 9.
	Trust uint8
	// Shared tells that several people may be at an address at once, as the source reports them.
	Shared bool
	// Role is that of the pass that the person was given, "" where the source knows of none.
	Role string
}

// Sighting is one report.
type Sighting struct {
	// ID is in the order of taking, and unique.
	ID int64
	// At is when it happened.
	At   time.Time
	Kind Kind
	Origin
	// Who is the name of the person in lower case, Display what people call that one.
	Who     string
	Display string
	// Ref is what the source tells this stay apart by, such as a session; empty where it has nothing.
	Ref     string
	Address netip.Addr
	Ports   Ports
	MAC     MAC
	Host    string
	// Until is when it is over without another word; never zero for SignedIn, Still and Leased.
	Until time.Time
}

// What is wrong with a sighting.
var (
	ErrNobody    = errors.New("it names nobody")
	ErrNowhere   = errors.New("it names neither an address nor a device")
	ErrNoDevice  = errors.New("a lease names an address and a device")
	ErrBadPorts  = errors.New("the block of ports ends before it begins, or begins at 0")
	ErrEndless   = errors.New("it does not say how long it holds")
	ErrBadKind   = errors.New("its kind is not signed-in, still, signed-out, leased or released")
	ErrBadTrust  = errors.New("its trust is not 1 to 9")
	ErrAddress   = errors.New("the address is none that one person could have")
	ErrAmbiguous = errors.New("who left is named neither by person nor by address")
)

// Check says what is wrong with a sighting by itself.
func (s *Sighting) Check() error {
	if s.Trust < 1 || s.Trust > 9 {
		return ErrBadTrust
	}
	if s.Address.IsValid() && !possible(s.Address) {
		return ErrAddress
	}
	if !s.Ports.All() && (s.Ports.First == 0 || s.Ports.Last < s.Ports.First || !s.Address.IsValid()) {
		return ErrBadPorts
	}
	switch s.Kind {
	case SignedIn, Still:
		switch {
		case s.Who == "":
			return ErrNobody
		case !s.Address.IsValid() && s.MAC == 0:
			return ErrNowhere
		case !s.Until.After(s.At):
			return ErrEndless
		}
	case SignedOut:
		if s.Who == "" && s.Ref == "" && !s.Address.IsValid() {
			return ErrAmbiguous
		}
	case Leased, Released:
		if !s.Address.IsValid() || s.MAC == 0 {
			return ErrNoDevice
		}
		if s.Kind == Leased && !s.Until.After(s.At) {
			return ErrEndless
		}
	default:
		return ErrBadKind
	}
	return nil
}

// possible tells that a device can have an address.
func possible(a netip.Addr) bool {
	return !a.IsUnspecified() && !a.IsMulticast() && a != netip.AddrFrom4([4]byte{255, 255, 255, 255}) &&
		!a.Is4In6() && a.Zone() == ""
}
