package rule

import (
	"net/netip"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// access is how a field is read and set. One of the first four reads it, without allocating.
type access struct {
	one     func(f *facts.Facts, key string) string
	many    func(f *facts.Facts, key string) []string
	address func(f *facts.Facts) netip.Addr
	age     func(f *facts.Facts) (age time.Duration, known bool)
	// set makes facts that have a value, for the search.
	set func(f *facts.Facts, v *value)
}

// textAt reads and sets a text where it stands; at returns nil for one that has no place. With make it makes the place.
func textAt(at func(f *facts.Facts, make bool) *string) access {
	return access{
		one: func(f *facts.Facts, _ string) string {
			if p := at(f, false); p != nil {
				return *p
			}
			return ""
		},
		set: func(f *facts.Facts, v *value) {
			text := v.text()
			if p := at(f, text != ""); p != nil {
				*p = text
			}
		}}
}

// listAt is textAt for a list.
func listAt(at func(f *facts.Facts, make bool) *[]string) access {
	return access{
		many: func(f *facts.Facts, _ string) []string {
			if p := at(f, false); p != nil {
				return *p
			}
			return nil
		},
		set: func(f *facts.Facts, v *value) {
			if p := at(f, len(v.texts) > 0); p != nil {
				*p = v.texts
			}
		}}
}

func addressAt(at func(f *facts.Facts) *netip.Addr) access {
	return access{
		address: func(f *facts.Facts) netip.Addr { return *at(f) },
		set:     func(f *facts.Facts, v *value) { *at(f) = v.address },
	}
}

// part is the place of a part of something that may be missing.
func part[T, P any](whole *T, of func(*T) *P) *P {
	if whole == nil {
		return nil
	}
	return of(whole)
}

func gearText(of func(*facts.Gear) *string) access {
	return textAt(func(f *facts.Facts, make bool) *string { return part(gear(f, make), of) })
}

func personText(of func(*facts.Person) *string) access {
	return textAt(func(f *facts.Facts, _ bool) *string { return part(f.Person, of) })
}

func certificateText(of func(*facts.Certificate) *string) access {
	return textAt(func(f *facts.Facts, make bool) *string { return part(certificate(f, make), of) })
}

func certificateList(of func(*facts.Certificate) *[]string) access {
	return listAt(func(f *facts.Facts, make bool) *[]string { return part(certificate(f, make), of) })
}

func gear(f *facts.Facts, make bool) *facts.Gear {
	if f.Gear == nil && make {
		f.Gear = &facts.Gear{}
	}
	return f.Gear
}

func device(f *facts.Facts, make bool) *facts.Device {
	if f.Device == nil && make {
		f.Device = &facts.Device{Tags: map[string]string{}}
	}
	return f.Device
}

func factor(f *facts.Facts, make bool) *facts.Factor {
	if f.Factor == nil && make {
		f.Factor = &facts.Factor{Outcome: reason.OK}
	}
	return f.Factor
}

func present(f *facts.Facts, make bool) *facts.Present {
	if f.Present == nil && make {
		f.Present = &facts.Present{}
	}
	return f.Present
}

func certificate(f *facts.Facts, make bool) *facts.Certificate {
	if f.Certificate == nil && make {
		f.Certificate = &facts.Certificate{}
	}
	return f.Certificate
}

// machine is the computer of an attempt: beside the person, or by itself.
func machine(f *facts.Facts) *facts.Person {
	if f.Machine == nil && f.Person != nil && f.Person.Kind == facts.Computer {
		return f.Person
	}
	return f.Machine
}

// makeMachine is the computer beside the person, which is made if there is none.
func makeMachine(f *facts.Facts) *facts.Person {
	if f.Machine == nil {
		f.Machine = &facts.Person{Kind: facts.Computer}
	}
	return f.Machine
}
