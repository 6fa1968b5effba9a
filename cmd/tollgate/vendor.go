package main

import (
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

var vendors = kind[apitype.Vendor]{
	noun: "vendor", path: "/vendors",
	headings: []string{"NAME", "NUMBER", "ATTRIBUTES"},
	row: func(v apitype.Vendor) []string {
		return []string{v.Name, fmt.Sprint(v.Number), fmt.Sprint(len(v.Attributes))}
	},
	show: func(s *invocation, v apitype.Vendor) {
		s.fields([2]string{"name", v.Name}, [2]string{"number", fmt.Sprint(v.Number)}, [2]string{"types, lengths",
			fmt.Sprintf("%d and %d octets", v.TypeOctets, *v.LengthOctets)}, [2]string{"note", v.Note})
		s.say("\nAttributes, each with an example as it goes over the wire:")
		for i, a := range v.Attributes {
			example := apitype.Vendor{}.Forms
			if i < len(v.Forms) {
				example = v.Forms[i : i+1]
			}
			s.say("  %s", a)
			for _, e := range example {
				s.say("      %s = %s   %s", e.Name, e.Value, s.paint(faint, e.Hex))
			}
		}
	},
}

// vendorAttributes is a flag of NUMBER:NAME:TYPE entries.
type vendorAttributes []config.VendorAttribute

func (l *vendorAttributes) String() string { return "" }
func (l *vendorAttributes) Set(text string) error {
	parts := strings.Split(text, ":")
	if len(parts) < 3 || len(parts) > 5 {
		return fmt.Errorf("%q is not NUMBER:NAME:TYPE", text)
	}
	number, err := strconv.ParseUint(parts[0], 0, 32)
	if err != nil {
		return fmt.Errorf("%q is not an attribute number", parts[0])
	}
	a := config.VendorAttribute{Number: uint32(number), Name: parts[1], Type: parts[2]}
	if len(parts) > 3 {
		a.Means = config.Meaning(parts[3])
	}
	if len(parts) > 4 {
		if a.Unit, err = strconv.Atoi(parts[4]); err != nil {
			return fmt.Errorf("%q is not a unit in kbit/s", parts[4])
		}
	}
	*l = append(*l, a)
	return nil
}

func vendorCommands() []command {
	return slices.Concat(vendors.commands(), writer("vendor", "/vendors", func(f *flag.FlagSet) func(map[string]bool,
		*apitype.Vendor, string) any {
		var list vendorAttributes
		f.Var(&list, "attr", "NUMBER:NAME:TYPE, or ...:rate-down:UNIT; repeatable, replaces those there")
		name, number, note := f.String("name", "", "new name"),
			f.Uint("number", 0, "enterprise number that IANA gave it"), f.String("text", "", "note")
		typeOctets, lengthOctets := f.Int("type-octets", 1, "octets of types: 1, 2 or 4"), f.Int("length-octets", 1,
			"octets of lengths: 0, 1 or 2")
		return func(was map[string]bool, old *apitype.Vendor, label string) any {
			in := apitype.VendorFields{TypeOctets: *typeOctets, LengthOctets: lengthOctets,
				Attributes: []config.VendorAttribute{}}
			if old != nil {
				in = old.VendorFields
			}
			in.Name = label
			assign(was, "name", &in.Name, *name)
			assign(was, "number", &in.Number, uint32(*number))
			assign(was, "type-octets", &in.TypeOctets, *typeOctets)
			assign(was, "length-octets", &in.LengthOctets, lengthOctets)
			assign(was, "attr", &in.Attributes, []config.VendorAttribute(list))
			assign(was, "text", &in.Note, *note)
			for i := range in.Attributes {
				if in.Attributes[i].Values == nil {
					in.Attributes[i].Values = []config.NamedValue{}
				}
			}
			return in
		}
	}, func(v apitype.Vendor) (apitype.Meta, string) { return v.Meta, v.Name }),
		[]command{{"vendor", "import", "FILE", "put vendors of a file into the draft; with -yes",
			applyFile("vendors")}})
}
