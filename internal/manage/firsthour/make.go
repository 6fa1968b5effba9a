package firsthour

import (
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
)

// Realm proposes the realm of the first store: the suffix of its domain, its short name as a prefix, bare names.
func Realm(c *config.Config, accounts int, domain, short string) config.Realm {
	r := config.Realm{Name: "everybody", Rewrite: "{name}", Forms: []config.Form{}}
	if domain != "" {
		r.Name, _, _ = strings.Cut(domain, ".")
		r.Forms = append(r.Forms, config.Form{Kind: config.Suffix, Value: domain})
	}
	if short != "" {
		r.Forms = append(r.Forms, config.Form{Kind: config.Prefix, Value: short})
	}
	r.Forms = append(r.Forms, config.Form{Kind: config.Bare})
	for _, d := range c.Directories {
		r.Lookup = append(r.Lookup, config.Lookup{Store: d.Name, Unreachable: config.Refuse})
	}
	if accounts > 0 || len(r.Lookup) == 0 {
		r.Lookup = slices.Insert(r.Lookup, 0, config.Lookup{Store: "local", Unreachable: config.Refuse})
	}
	return r
}

// Row gives the people of a group a VLAN.
type Row struct{ Group, VLAN string }

// Wish is who gets which VLAN, and on which ports.
type Wish struct {
	Rows []Row
	// Others is the VLAN of everybody else; empty refuses them.
	Others string
	// Ports is wired, wireless or any.
	Ports string
}

// Fault is what is wrong with a field of a wish.
type Fault struct{ Field, Message, Remedy string }

func (f *Fault) Error() string { return f.Field + ": " + f.Message }

// ports are the conditions of the lanes that can be wished for, and their names.
var ports = map[string][2]string{"wired": {"Wired ports", "port.type is Ethernet"},
	"wireless": {"Wi-Fi", "port.type is Wireless-802.11"}, "any": {"Everything", ""}}

// Make adds a lane with one policy for the groups, one for everybody else where that is wished, and a pass for each
// VLAN that no pass gives alone yet. id makes identifiers.
func (w Wish) Make(c *config.Config, methods []string, id func() string) (*config.Lane, error) {
	where, known := ports[w.Ports]
	if !known {
		return nil, &Fault{"ports", fmt.Sprintf("%q is not known here", w.Ports), "Use wired, wireless or any."}
	}
	if len(w.Rows) == 0 && w.Others == "" {
		return nil, &Fault{"rows", "nobody would get anything", "Choose a group, or a VLAN for everybody."}
	}
	lane := &config.Lane{ID: id(), Name: unused(where[0], func(name string) bool {
		return taken(c.Lanes, name)
	}), When: where[1], Methods: methods, Forward: []string{}, Policies: []*config.Policy{}}
	if len(c.Realms) == 1 {
		lane.Realm = c.Realms[0].Name
	}
	byGroup := &config.Policy{
		ID:      id(),
		Name:    "By group",
		Enabled: true,
		Outcome: config.Admit,
		Groups:  []config.GroupRow{},
	}
	for i, row := range w.Rows {
		at := fmt.Sprintf("rows[%d]", i)
		if strings.TrimSpace(row.Group) == "" {
			return nil, &Fault{at + ".group", "the group is missing", "Choose one."}
		}
		if slices.ContainsFunc(byGroup.Groups, func(g config.GroupRow) bool {
			return strings.EqualFold(g.Group, row.Group)
		}) {
			return nil, &Fault{at + ".group", row.Group + " is there twice", "Give each group one VLAN."}
		}
		pass, err := passOf(c, row.VLAN, row.Group, id)
		if err != nil {
			return nil, &Fault{at + ".vlan", err.Error(), "Use a number from 1 to 4094."}
		}
		byGroup.Groups = append(byGroup.Groups, config.GroupRow{Group: row.Group, Pass: pass})
	}
	if len(w.Rows) > 0 {
		lane.Policies = append(lane.Policies, byGroup)
	}
	if w.Others != "" {
		pass, err := passOf(c, w.Others, "Everybody else", id)
		if err != nil {
			return nil, &Fault{"others", err.Error(), "Use a number from 1 to 4094."}
		}
		lane.Policies = append(lane.Policies, &config.Policy{ID: id(), Name: "Everybody else", Enabled: true,
			Outcome: config.Admit, Pass: pass, Groups: []config.GroupRow{}})
	}
	c.Lanes = append(c.Lanes, lane)
	return lane, nil
}

// passOf is the name of a pass that gives a VLAN and nothing else, made if there is none.
func passOf(c *config.Config, vlan, name string, id func() string) (string, error) {
	vlan = strings.TrimSpace(vlan)
	if vlan == "" {
		return "", fmt.Errorf("the VLAN is missing")
	}
	if err := config.CheckVLAN(vlan); err != nil {
		return "", err
	}
	for _, p := range c.Passes {
		if p.VLAN == vlan && strings.EqualFold(p.Name, name) {
			return p.Name, nil
		}
	}
	p := &config.Pass{
		ID:   id(),
		VLAN: vlan,
		Name: unused(name, func(name string) bool { return taken(c.Passes, name) }),
	}
	c.Passes = append(c.Passes, p)
	return p.Name, nil
}

func taken[T any, P config.Object[T]](list []*T, name string) bool {
	return slices.ContainsFunc(list, func(o *T) bool { return strings.EqualFold(P(o).Label(), name) })
}

// unused is a name that is not taken: the one wished for, or with a number behind it.
func unused(name string, taken func(string) bool) string {
	for n, next := 2, name; ; n++ {
		if !taken(next) {
			return next
		}
		next = fmt.Sprintf("%s %d", name, n)
	}
}
