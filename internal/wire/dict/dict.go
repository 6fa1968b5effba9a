// Package dict is the dictionary of the standard RADIUS attributes: number, name, data type (RFC 8044) and named
// values. It turns values from text into octets and back.
package dict

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Type is the data type of an attribute (RFC 8044 section 3).
type Type int

const (
	Text Type = iota
	Octets
	Integer
	IPv4
	IPv6
	IPv6Prefix
	IfID
	Time
	// TaggedText and TaggedInteger carry the tag octet of RFC 2868.
	TaggedText
	TaggedInteger
	// Vendor is Vendor-Specific (RFC 2865 section 5.26), written as VENDOR:TYPE:HEX.
	Vendor
	// Concat is octets split over several attributes (EAP-Message).
	Concat
	Integer64
)

var typeNames = [...]string{"text", "octets", "integer", "ipv4addr", "ipv6addr", "ipv6prefix", "ifid", "time",
	"tagged text", "tagged integer", "vendor-specific", "concat", "integer64"}

func (t Type) String() string { return typeNames[t] }

// Attribute describes one attribute.
type Attribute struct {
	Type   byte
	Name   string
	Data   Type
	Values map[uint32]string
	// Reply tells that the attribute may stand in an Access-Accept and be set by a pass.
	Reply bool
	// Hidden attributes hold credentials and are never shown or recorded.
	Hidden bool
	// Vendor is whose attribute it is, nil for a standard one; Number its number there.
	Vendor *Enterprise
	Number uint32
}

// Tagged reports whether the value begins with a tag octet (RFC 2868 section 3).
func (a *Attribute) Tagged() bool { return a.Data == TaggedText || a.Data == TaggedInteger }

var (
	byType [256]*Attribute
	byName = map[string]*Attribute{}
)

func init() {
	for i := range table {
		a := &table[i]
		byType[a.Type] = a
		byName[strings.ToLower(a.Name)] = a
	}
}

// ByType returns the attribute of that number, nil if it is not in the dictionary.
func ByType(t byte) *Attribute { return byType[t] }

// ByName returns the attribute of that name without regard to case, nil if there is none.
func ByName(name string) *Attribute { return byName[strings.ToLower(name)] }

// All lists the dictionary in the order of numbers.
func All() []*Attribute {
	out := make([]*Attribute, 0, len(table))
	for t := range byType {
		if byType[t] != nil {
			out = append(out, byType[t])
		}
	}
	return out
}

// Name returns the name of an attribute number.
func Name(t byte) string {
	if a := byType[t]; a != nil {
		return a.Name
	}
	return "Attribute-" + strconv.Itoa(int(t))
}

// ValueName returns the name of an integer value, or its digits.
func (a *Attribute) ValueName(v uint32) string {
	if name, ok := a.Values[v]; ok {
		return name
	}
	return strconv.FormatUint(uint64(v), 10)
}

// Encode turns the text form of a value into the octets of the attribute. Tagged attributes get tag 0 unless the
// text begins with TAG: (1 to 31).
func (a *Attribute) Encode(text string) ([]byte, error) {
	var out []byte
	switch a.Data {
	case Text:
		if !utf8.ValidString(text) {
			return nil, fmt.Errorf("%s takes UTF-8 text", a.Name)
		}
		out = []byte(text)
	case Octets, Concat:
		b, err := parseOctets(text)
		if err != nil {
			return nil, fmt.Errorf("%s takes text, or octets as 0x followed by an even number of hexadecimal digits",
				a.Name)
		}
		out = b
	case Integer, TaggedInteger:
		tag, rest := splitTag(a, text)
		v, err := a.integer(rest)
		if err != nil {
			return nil, err
		}
		if a.Data == TaggedInteger && v > 0xffffff {
			return nil, fmt.Errorf("%s takes at most 16777215", a.Name)
		}
		out = binary.BigEndian.AppendUint32(nil, v)
		if a.Data == TaggedInteger {
			out[0] = tag
		}
	case Integer64:
		v, err := strconv.ParseUint(text, 0, 64)
		if err != nil {
			return nil, fmt.Errorf("%s takes a number of 64 bits, not %q", a.Name, text)
		}
		out = binary.BigEndian.AppendUint64(nil, v)
	case TaggedText:
		tag, rest := splitTag(a, text)
		out = []byte(rest)
		if tag != 0 || rest != "" && rest[0] <= 0x1f {
			out = append([]byte{tag}, rest...)
		}
	case IPv4:
		addr, err := netip.ParseAddr(text)
		if err != nil || !addr.Is4() {
			return nil, fmt.Errorf("%s takes an IPv4 address, not %q", a.Name, text)
		}
		out = addr.AsSlice()
	case IPv6:
		addr, err := netip.ParseAddr(text)
		if err != nil || !addr.Is6() || addr.Zone() != "" {
			return nil, fmt.Errorf("%s takes an IPv6 address, not %q", a.Name, text)
		}
		out = addr.AsSlice()
	case IPv6Prefix:
		p, err := netip.ParsePrefix(text)
		if err != nil || !p.Addr().Is6() {
			return nil, fmt.Errorf("%s takes an IPv6 prefix such as 2001:db8:7::/64, not %q", a.Name, text)
		}
		octets := p.Masked().Addr().AsSlice()[:(p.Bits()+7)/8]
		out = append([]byte{0, byte(p.Bits())}, octets...)
	case IfID:
		b, err := hex.DecodeString(strings.ReplaceAll(text, ":", ""))
		if err != nil || len(b) != 8 {
			return nil, fmt.Errorf("%s takes 8 octets in hexadecimal, not %q", a.Name, text)
		}
		out = b
	case Time:
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return nil, fmt.Errorf("%s takes a time such as 2027-03-01T08:00:00Z, not %q", a.Name, text)
		}
		out = binary.BigEndian.AppendUint32(nil, uint32(at.Unix()))
	case Vendor:
		return encodeVendor(text)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s has no value", a.Name)
	}
	if a.Vendor != nil {
		wrapped, err := a.Vendor.Wrap(a.Number, out)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a.Name, err)
		}
		return wrapped, nil
	}
	if len(out) > 253 {
		return nil, fmt.Errorf("%s holds at most 253 octets, this value has %d", a.Name, len(out))
	}
	return out, nil
}

func (a *Attribute) integer(text string) (uint32, error) {
	for v, name := range a.Values {
		if strings.EqualFold(name, text) {
			return v, nil
		}
	}
	v, err := strconv.ParseUint(text, 0, 32)
	if err != nil {
		if len(a.Values) > 0 {
			return 0, fmt.Errorf("%s has no value called %q", a.Name, text)
		}
		return 0, fmt.Errorf("%s takes a number from 0 to 4294967295, not %q", a.Name, text)
	}
	return uint32(v), nil
}

func splitTag(a *Attribute, text string) (byte, string) {
	if !a.Tagged() {
		return 0, text
	}
	if head, rest, ok := strings.Cut(text, ":"); ok {
		if n, err := strconv.Atoi(head); err == nil && n >= 1 && n <= 31 {
			return byte(n), rest
		}
	}
	return 0, text
}

func parseOctets(text string) ([]byte, error) {
	if digits, ok := strings.CutPrefix(strings.ToLower(text), "0x"); ok {
		return hex.DecodeString(digits)
	}
	return []byte(text), nil
}

// encodeVendor reads VENDOR:TYPE:VALUE, where the value is text or 0x hexadecimal (RFC 2865 section 5.26).
func encodeVendor(text string) ([]byte, error) {
	parts := strings.SplitN(text, ":", 3)
	if len(parts) != 3 {
		return nil, fmt.Errorf("Vendor-Specific takes VENDOR:TYPE:VALUE, such as 32473:1:0x0a or 32473:2:text")
	}
	vendor, err := strconv.ParseUint(parts[0], 10, 24)
	if err != nil || vendor == 0 {
		return nil, fmt.Errorf("%q is not a vendor number from 1 to 16777215", parts[0])
	}
	kind, err := strconv.ParseUint(parts[1], 10, 8)
	if err != nil {
		return nil, fmt.Errorf("%q is not a vendor attribute type from 0 to 255", parts[1])
	}
	value, err := parseOctets(parts[2])
	if err != nil {
		return nil, fmt.Errorf("the value after 0x needs an even number of hexadecimal digits")
	}
	if len(value) > 247 {
		return nil, fmt.Errorf("a vendor attribute holds at most 247 octets, this has %d", len(value))
	}
	out := binary.BigEndian.AppendUint32(nil, uint32(vendor))
	return append(append(out, byte(kind), byte(len(value)+2)), value...), nil
}

// Format writes octets in the text form that Encode reads. Octets that do not fit the type come out as 0x.
func (a *Attribute) Format(value []byte) string {
	switch a.Data {
	case Text:
		if printable(value) {
			return string(value)
		}
	case Integer:
		if len(value) == 4 {
			return a.ValueName(binary.BigEndian.Uint32(value))
		}
	case Integer64:
		if len(value) == 8 {
			return strconv.FormatUint(binary.BigEndian.Uint64(value), 10)
		}
	case TaggedInteger:
		if len(value) == 4 {
			name := a.ValueName(binary.BigEndian.Uint32(value) & 0xffffff)
			if value[0] != 0 {
				return fmt.Sprintf("%d:%s", value[0], name)
			}
			return name
		}
	case TaggedText:
		if len(value) > 0 && value[0] <= 0x1f {
			if rest := value[1:]; printable(rest) {
				if value[0] == 0 {
					return string(rest)
				}
				return fmt.Sprintf("%d:%s", value[0], rest)
			}
		} else if printable(value) {
			return string(value)
		}
	case IPv4, IPv6:
		if addr, ok := netip.AddrFromSlice(value); ok && addr.Is4() == (a.Data == IPv4) {
			return addr.String()
		}
	case IPv6Prefix:
		if len(value) >= 2 && len(value) <= 18 && value[1] <= 128 {
			var full [16]byte
			copy(full[:], value[2:])
			return netip.PrefixFrom(netip.AddrFrom16(full), int(value[1])).Masked().String()
		}
	case Time:
		if len(value) == 4 {
			return time.Unix(int64(binary.BigEndian.Uint32(value)), 0).UTC().Format(time.RFC3339)
		}
	case Vendor:
		if len(value) >= 6 && int(value[5]) == len(value)-4 && value[0] == 0 {
			return fmt.Sprintf("%d:%d:%s", binary.BigEndian.Uint32(value), value[4], octetsText(value[6:]))
		}
	case Octets, Concat:
		return octetsText(value)
	}
	return "0x" + hex.EncodeToString(value)
}

func octetsText(value []byte) string {
	if printable(value) && !strings.HasPrefix(strings.ToLower(string(value)), "0x") {
		return string(value)
	}
	return "0x" + hex.EncodeToString(value)
}

func printable(value []byte) bool {
	if !utf8.Valid(value) {
		return false
	}
	for _, r := range string(value) {
		if !unicode.IsPrint(r) {
			return false
		}
	}
	return true
}
