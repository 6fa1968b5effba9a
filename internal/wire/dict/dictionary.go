package dict

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// VendorSpecific is the number of the attribute that holds those of vendors (RFC 2865 section 5.26).
const VendorSpecific = 26

// Enterprise is the attributes of one vendor inside Vendor-Specific.
type Enterprise struct {
	Number uint32
	Name   string
	// TypeOctets and LengthOctets are the widths of the fields before each value.
	TypeOctets, LengthOctets int

	byType map[uint32]*Attribute
}

// Dictionary is the standard attributes together with those of vendors. It is immutable once made; nil is the standard
// ones.
type Dictionary struct {
	vendors map[uint32]*Enterprise
	byName  map[string]*Attribute
}

// NewDictionary makes a dictionary that knows no vendor.
func NewDictionary() *Dictionary {
	return &Dictionary{map[uint32]*Enterprise{}, map[string]*Attribute{}}
}

// Add adds a vendor with its attributes, whose Type is ignored in favour of Number. It returns an error, and adds
// nothing, for a name that another attribute has.
func (d *Dictionary) Add(v Enterprise, attributes []Attribute) error {
	for i := range attributes {
		if other := d.ByName(attributes[i].Name); other != nil {
			return fmt.Errorf("%s is an attribute already, number %s", other.Name, other.Place())
		}
	}
	vendor := &v
	vendor.byType = map[uint32]*Attribute{}
	for i := range attributes {
		a := attributes[i]
		a.Type, a.Vendor, a.Reply = VendorSpecific, vendor, true
		vendor.byType[a.Number] = &a
		d.byName[strings.ToLower(a.Name)] = &a
	}
	d.vendors[v.Number] = vendor
	return nil
}

// ByName returns the attribute of that name without regard to case, nil if there is none.
func (d *Dictionary) ByName(name string) *Attribute {
	if a := ByName(name); a != nil || d == nil {
		return a
	}
	return d.byName[strings.ToLower(name)]
}

// Place writes where an attribute is: its number, for a vendor's after the number of the vendor.
func (a *Attribute) Place() string {
	if a.Vendor != nil {
		return fmt.Sprintf("26.%d.%d", a.Vendor.Number, a.Number)
	}
	return fmt.Sprint(a.Type)
}

// Wrap puts the octets of a vendor's attribute behind the number of the vendor, type and length.
func (v *Enterprise) Wrap(number uint32, value []byte) ([]byte, error) {
	header := 4 + v.TypeOctets + v.LengthOctets
	if header+len(value) > 253 {
		return nil, fmt.Errorf("the value has %d octets, at most %d fit", len(value), 253-header)
	}
	out := binary.BigEndian.AppendUint32(nil, v.Number)
	out = appendWidth(out, number, v.TypeOctets)
	out = appendWidth(out, uint32(v.TypeOctets+v.LengthOctets+len(value)), v.LengthOctets)
	return append(out, value...), nil
}

func appendWidth(b []byte, n uint32, octets int) []byte {
	for i := octets - 1; i >= 0; i-- {
		b = append(b, byte(n>>(8*i)))
	}
	return b
}

// Part is one attribute of a vendor found in a Vendor-Specific.
type Part struct{ Name, Value string }

// Open names the attributes in the octets of a Vendor-Specific. ok is false if the vendor is not in the dictionary, or
// the octets are not of its form.
func (d *Dictionary) Open(value []byte) (parts []Part, ok bool) {
	if d == nil || len(value) < 4 {
		return nil, false
	}
	v := d.vendors[binary.BigEndian.Uint32(value)]
	if v == nil {
		return nil, false
	}
	rest := value[4:]
	for len(rest) > 0 {
		header := v.TypeOctets + v.LengthOctets
		if len(rest) < header {
			return nil, false
		}
		number := width(rest[:v.TypeOctets])
		length := len(rest)
		if v.LengthOctets > 0 {
			length = int(width(rest[v.TypeOctets:header]))
		}
		if length < header || length > len(rest) {
			return nil, false
		}
		if a := v.byType[number]; a != nil {
			parts = append(parts, Part{a.Name, a.Format(rest[header:length])})
		} else {
			parts = append(parts, Part{fmt.Sprintf("%s.%d", v.Name, number), octetsText(rest[header:length])})
		}
		rest = rest[length:]
	}
	return parts, len(parts) > 0
}

// Split takes a Vendor-Specific with several attributes apart into one for each. What is not of the form of a vendor in
// the dictionary stays whole.
func (d *Dictionary) Split(value []byte) [][]byte {
	if d == nil || len(value) < 4 {
		return [][]byte{value}
	}
	v := d.vendors[binary.BigEndian.Uint32(value)]
	if v == nil || v.LengthOctets == 0 {
		return [][]byte{value}
	}
	var out [][]byte
	header := v.TypeOctets + v.LengthOctets
	for rest := value[4:]; len(rest) > 0; {
		if len(rest) < header {
			return [][]byte{value}
		}
		length := int(width(rest[v.TypeOctets:header]))
		if length < header || length > len(rest) {
			return [][]byte{value}
		}
		out = append(out, append(slices.Clone(value[:4]), rest[:length]...))
		rest = rest[length:]
	}
	return out
}

// mschapVendor is the vendor of the attributes of RFC 2548: challenges and responses, from which passwords can be
// guessed.
const mschapVendor = 311

// Describe names an attribute and writes its value as text, each part of a Vendor-Specific for itself. It returns nil
// for those that hold credentials or keys, which must not be recorded.
func (d *Dictionary) Describe(t byte, value []byte) []Part {
	entry := ByType(t)
	switch {
	case entry != nil && entry.Hidden:
		return nil
	case t == VendorSpecific && len(value) >= 4 && binary.BigEndian.Uint32(value) == mschapVendor:
		return nil
	case t == VendorSpecific:
		if parts, ok := d.Open(value); ok {
			return parts
		}
	}
	if entry == nil {
		entry = &Attribute{Type: t, Name: Name(t), Data: Octets}
	}
	return []Part{{entry.Name, entry.Format(value)}}
}

func width(b []byte) (n uint32) {
	for _, c := range b {
		n = n<<8 | uint32(c)
	}
	return n
}

// Spell writes the octets of an attribute in hexadecimal, a space between type, length, vendor, vendor's type, vendor's
// length and value, so that each number can be read.
func (d *Dictionary) Spell(kind byte, value []byte) string {
	hexa := func(octets []byte) string { return strings.ToUpper(hex.EncodeToString(octets)) }
	out := []string{hexa([]byte{kind}), hexa([]byte{byte(len(value) + 2)})}
	if kind == VendorSpecific && len(value) >= 6 {
		typeOctets, lengthOctets := 1, 1
		if d != nil {
			if v := d.vendors[binary.BigEndian.Uint32(value)]; v != nil && len(value) >= 4+v.TypeOctets+v.LengthOctets {
				typeOctets, lengthOctets = v.TypeOctets, v.LengthOctets
			}
		}
		out = append(out, hexa(value[:4]), hexa(value[4:4+typeOctets]))
		if lengthOctets > 0 {
			out = append(out, hexa(value[4+typeOctets:4+typeOctets+lengthOctets]))
		}
		value = value[4+typeOctets+lengthOctets:]
	}
	if len(value) > 0 {
		out = append(out, hexa(value))
	}
	return strings.Join(out, " ")
}

// TypeByName returns the data type of that name.
func TypeByName(name string) (Type, bool) {
	for t, known := range typeNames {
		if known == name {
			return Type(t), true
		}
	}
	return 0, false
}
