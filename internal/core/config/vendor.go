package config

import (
	"fmt"
	"slices"
	"strings"
)

// Meaning is what an attribute of a vendor carries, if a pass has a field for it.
type Meaning string

const (
	RateDown Meaning = "rate-down"
	RateUp   Meaning = "rate-up"
)

// NamedValue is a value of an integer attribute with its name.
type NamedValue struct {
	Number uint32 `json:"number"`
	Name   string `json:"name"`
}

// String writes a value as 1=guest.
func (v NamedValue) String() string { return fmt.Sprintf("%d=%s", v.Number, v.Name) }

// VendorAttribute is one attribute of a vendor.
type VendorAttribute struct {
	Number uint32 `json:"number"`
	Name   string `json:"name"`
	// Type is a data type of RFC 8044.
	Type   string       `json:"type"`
	Values []NamedValue `json:"values" required:"false"`
	Means  Meaning      `json:"means,omitempty" enum:",rate-down,rate-up"`
	// Unit is how many kbit/s one is, for rates; 0 is bits per second.
	Unit int `json:"unit,omitempty" doc:"For rates: 0 for bit/s, 1 for kbit/s, 1000 for Mbit/s"`
}

// String writes an attribute in one line.
func (a VendorAttribute) String() string {
	text := fmt.Sprintf("%d %s %s", a.Number, a.Name, a.Type)
	for _, v := range a.Values {
		text += " " + v.String()
	}
	if a.Means != "" {
		text += fmt.Sprintf(" means %s, unit %d", a.Means, a.Unit)
	}
	return text
}

// Vendor is attributes inside Vendor-Specific (RFC 2865 section 5.26).
type Vendor struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Number is the enterprise number that IANA gave to the vendor.
	Number uint32 `json:"number"`
	// TypeOctets and LengthOctets are the widths of the fields before each value: 1 and 1 as the standard advises.
	TypeOctets   int               `json:"typeOctets"`
	LengthOctets int               `json:"lengthOctets"`
	Attributes   []VendorAttribute `json:"attributes"`
	Note         string            `json:"note,omitempty"`
}

func (v *Vendor) Ident() string      { return v.ID }
func (v *Vendor) Label() string      { return v.Name }
func (v *Vendor) Identify(id string) { v.ID = id }

// VendorTypes are the data types that attributes of vendors can have.
var VendorTypes = []string{"text", "octets", "integer", "integer64", "ipv4addr", "ipv6addr", "ipv6prefix", "ifid",
	"time"}

func (v *Vendor) normalise() {
	orEmpty(&v.Attributes)
	trim(&v.Name, &v.Note)
	if v.TypeOctets == 0 {
		v.TypeOctets, v.LengthOctets = 1, 1
	}
	for i := range v.Attributes {
		a := &v.Attributes[i]
		trim(&a.Name, &a.Type)
		orEmpty(&a.Values)
		for j := range a.Values {
			trim(&a.Values[j].Name)
		}
	}
	slices.SortStableFunc(v.Attributes, func(a, b VendorAttribute) int { return int(a.Number) - int(b.Number) })
}

const maxVendorAttributes = 1000

func (c *Config) checkVendors(k *checker) {
	numbers, names := map[uint32]string{}, map[string]string{}
	for i := range c.Vendors {
		v := c.Vendors[i]
		k.on("vendor", v.Name, v.ID)
		switch other := numbers[v.Number]; {
		case v.Number == 0 || v.Number > 0xffffff:
			k.fail("number", Unknown, "Use its IANA enterprise number, from 1 to 16777215.",
				"%d is not the number of a vendor", v.Number)
		case other != "":
			k.fail("number", Taken, "Two vendors never share a number: correct it, or merge the attributes.",
				"%d is the number of %q already", v.Number, other)
		case v.Number == 311:
			k.fail("number", Conflict, "Its attributes are made by the server; use another number.",
				"311 is used by this server itself, for keys and challenges (RFC 2548)")
		}
		numbers[v.Number] = v.Name
		if !slices.Contains([]int{1, 2, 4}, v.TypeOctets) || v.LengthOctets < 0 || v.LengthOctets > 2 {
			k.fail("typeOctets", Conflict, "Types have 1, 2 or 4 octets, lengths 0, 1 or 2; nearly all vendors use "+
				"1 and 1.", "types of %d octets with lengths of %d", v.TypeOctets, v.LengthOctets)
		}
		if len(v.Attributes) > maxVendorAttributes {
			k.fail("attributes", TooMany, "Leave out those you do not use.", "%d attributes, at most %d are allowed",
				len(v.Attributes), maxVendorAttributes)
		}
		v.checkAttributes(k, names)
	}
}

func (v *Vendor) checkAttributes(k *checker, names map[string]string) {
	numbers := map[uint32]string{}
	for j := range v.Attributes {
		a := &v.Attributes[j]
		field := fmt.Sprintf("attributes[%d]", j)
		lower := strings.ToLower(a.Name)
		switch {
		case !isAttributeName(a.Name):
			k.fail(field+".name", Malformed, "Use letters, digits and hyphens, at most 60, such as Harbour-Role.",
				"%q is not a name for an attribute", a.Name)
		case names[lower] != "":
			k.fail(field+".name", Taken, "Choose another name.", "%s is an attribute of %q already", a.Name,
				names[lower])
		}
		names[lower] = v.Name
		if limit := uint64(1)<<(8*v.TypeOctets) - 1; uint64(a.Number) > limit {
			k.fail(field+".number", OutOfRange, "Correct the number, or the width of types.",
				"%d does not fit into a type of %d octets", a.Number, v.TypeOctets)
		}
		if numbers[a.Number] != "" {
			k.fail(field+".number", Taken, "Correct one of the two.", "%d is the number of %s already", a.Number,
				numbers[a.Number])
		}
		numbers[a.Number] = a.Name
		if !slices.Contains(VendorTypes, a.Type) {
			k.fail(field+".type", Unknown, "Use one of: "+strings.Join(VendorTypes, ", ")+".", "%q is not a type",
				a.Type)
		}
		if len(a.Values) > 0 && a.Type != "integer" {
			k.fail(field+".values", Conflict, "Remove them, or correct the type.", "only integers have named values")
		}
		if len(a.Values) > maxVendorAttributes {
			k.fail(field+".values", TooMany, "Leave out those you do not use.", "more than %d values",
				maxVendorAttributes)
		}
		switch {
		case a.Means == "":
		case a.Means != RateDown && a.Means != RateUp:
			k.fail(field+".means", Unknown, "Use rate-down or rate-up, or leave it empty.", "%q is not a meaning",
				a.Means)
		case a.Type != "integer" && a.Type != "integer64":
			k.fail(field+".means", Conflict, "Correct the type.", "a rate is a number")
		case a.Unit < 0 || a.Unit > 1_000_000:
			k.fail(field+".unit", Unknown, "Use 0 for bit/s, 1 for kbit/s, 1000 for Mbit/s.", "%d is not a unit",
				a.Unit)
		}
	}
}

func isAttributeName(name string) bool {
	for _, r := range name {
		if !(r == '-' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z') {
			return false
		}
	}
	return name != "" && len(name) <= 60
}
