package decide

import (
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
)

// Prospects lists, lane by lane, what policies a person could meet. A lane ends with the first policy that the person
// alone fulfils.
func (p *Plan) Prospects(person *facts.Person) []results.Prospect {
	out := []results.Prospect{}
	f := p.own(&facts.Facts{Person: person, Credential: "ok"})
	for _, lane := range p.Lanes {
		if len(lane.Forward) > 0 || lane.Realm != "" && !p.looksIn(lane.Realm, person.Store) || !lane.forPeople() {
			continue
		}
		out = append(out, lane.prospects(f)...)
	}
	return out
}

// forPeople reports whether anything but the address of a device is proven there.
func (l *Lane) forPeople() bool {
	return slices.ContainsFunc(l.Methods, func(m string) bool { return m != facts.MACBypass })
}

func (p *Plan) looksIn(realm, store string) bool {
	r := p.Realm(realm)
	if r == nil {
		return false
	}
	for i := range r.Lookup {
		if strings.EqualFold(r.Lookup[i].Store, store) {
			return true
		}
	}
	return false
}

func (l *Lane) prospects(f *facts.Facts) (out []results.Prospect) {
	for _, policy := range l.Policies {
		if !policy.Enabled {
			continue
		}
		fits, rest := policy.when.Given(f)
		one := results.Prospect{Lane: l.Name, Policy: policy.Name, If: rest, Outcome: policy.Outcome}
		given := policy.pass
		if len(policy.Groups) > 0 {
			row := policy.row(f.Person)
			if row < 0 {
				continue
			}
			given = policy.rows[row]
		}
		if !fits && rest == "" {
			continue
		}
		if policy.Outcome == config.Admit && given != nil {
			one.Pass, one.VLAN = given.Name, given.VLAN
		}
		out = append(out, one)
		if fits {
			return out
		}
	}
	if len(out) == 0 {
		out = append(out, results.Prospect{Lane: l.Name, Outcome: config.Refusal})
	}
	return out
}
