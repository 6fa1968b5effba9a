package decide

import (
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/core/rule"
)

// owners say in which store a group counts. A name alone is not enough where a realm looks in several stores: whoever
// may make groups in one of them could make one that is called like a group of another.
type owners struct {
	// picked are the stores in which a group of that name was picked; there alone the bare name counts.
	picked map[string][]string
	// qualified are the names with their store that policies ask for, store/group.
	qualified map[string]bool
}

// separator stands between a store and a group; no store has it in its name.
const separator = "/"

// Qualified takes a group as policies write it apart: store/group, or a bare group.
func (p *Plan) Qualified(text string) (store, group string) {
	before, after, ok := strings.Cut(text, separator)
	if !ok || after == "" {
		return "", text
	}
	if _, at := config.Find(p.Config.Directories, before); at < 0 && !strings.EqualFold(before, config.LocalStore) {
		return "", text
	}
	return before, after
}

// compilePicked reads which groups were picked where.
func (p *Plan) compilePicked() {
	p.owners.picked = map[string][]string{}
	for _, d := range p.Config.Directories {
		for _, g := range d.Groups {
			key := rule.FoldString(g.Name)
			p.owners.picked[key] = append(p.owners.picked[key], d.Name)
		}
	}
}

// asks lists the groups that a policy names.
func (p *Policy) asks() []string {
	var out []string
	if p.when != nil {
		uses := p.when.Uses()
		out = append(append(out, uses["group"]...), uses["machine.group"]...)
	}
	for _, row := range p.Groups {
		out = append(out, row.Group)
	}
	return out
}

// own returns the facts with the groups that count: a bare name is left to the stores in which it was picked, and names
// that policies write with their store are added. Facts of which nothing changes come back as they are, without an
// allocation. It is done once, where a decision begins.
func (p *Plan) own(f *facts.Facts) *facts.Facts {
	if len(p.owners.picked) == 0 && len(p.owners.qualified) == 0 {
		return f
	}
	person, machine := p.ownGroups(f.Person), p.ownGroups(f.Machine)
	if person == f.Person && machine == f.Machine {
		return f
	}
	out := *f
	out.Person, out.Machine = person, machine
	return &out
}

func (p *Plan) ownGroups(person *facts.Person) *facts.Person {
	if person == nil || len(person.Groups) == 0 {
		return person
	}
	var space [192]byte
	var made []string
	changed := false
	for i, group := range person.Groups {
		stranger := p.stranger(person.Store, group, space[:0])
		full := rule.Fold(append(rule.Fold(space[:0], person.Store), separator...), group)
		wanted := p.owners.qualified[string(full)]
		if (stranger || wanted) && !changed {
			changed, made = true, append(make([]string, 0, len(person.Groups)+2), person.Groups[:i]...)
		}
		if !changed {
			continue
		}
		if !stranger {
			made = append(made, group)
		}
		if name := person.Store + separator + group; (stranger || wanted) && !slices.Contains(made, name) {
			made = append(made, name)
		}
	}
	if !changed {
		return person
	}
	out := *person
	out.Groups = made
	return &out
}

// stranger reports whether a bare name belongs to groups that were picked in other stores, or looks like one with a
// store.
func (p *Plan) stranger(store, group string, space []byte) bool {
	if strings.Contains(group, separator) {
		if named, _ := p.Qualified(group); named != "" {
			return true
		}
	}
	picked := p.owners.picked[string(rule.Fold(space, group))]
	return len(picked) > 0 && !slices.ContainsFunc(picked, func(s string) bool { return strings.EqualFold(s, store) })
}

// stores lists where a lane looks people up.
func (p *Plan) stores(lane *Lane) []string {
	var out []string
	for i := range p.Config.Realms {
		r := p.Config.Realms[i]
		if lane.Realm != "" && !strings.EqualFold(lane.Realm, r.Name) {
			continue
		}
		for _, step := range r.Lookup {
			if !slices.ContainsFunc(out, func(s string) bool { return strings.EqualFold(s, step.Store) }) {
				out = append(out, step.Store)
			}
		}
	}
	return out
}

// ambiguous looks for groups by their bare name in a lane whose people come from several stores.
func (a *analysis) ambiguous(on results.Finding, n int, lane *Lane, policy *Policy) {
	stores := a.plan.stores(lane)
	if len(stores) < 2 {
		return
	}
	uses := policy.when.Uses()
	for _, group := range append(uses["group"], uses["machine.group"]...) {
		a.ambiguousGroup(on, on.Field, group, stores)
	}
	for r, row := range policy.Groups {
		a.ambiguousGroup(on, fmt.Sprintf("policies[%d].groups[%d].group", n, r), row.Group, stores)
	}
}

func (a *analysis) ambiguousGroup(on results.Finding, field, group string, stores []string) {
	if store, _ := a.plan.Qualified(group); store != "" {
		return
	}
	var from []string
	picked := a.plan.owners.picked[rule.FoldString(group)]
	for _, store := range stores {
		if len(picked) == 0 || slices.ContainsFunc(picked, func(p string) bool { return strings.EqualFold(p, store) }) {
			from = append(from, store)
		}
	}
	if len(from) < 2 {
		return
	}
	on.Field, on.Code, on.Note = field, results.GroupAmbiguous, true
	on.Message = fmt.Sprintf("group %q matches groups of that name in %s: anyone who can create groups in one of "+
		"them can create a group with this name", group, strings.Join(from, " and "))
	on.Remedy = fmt.Sprintf("Write it with its directory, such as %s, or pick it in its directory.",
		rule.Quote(from[0]+separator+group))
	a.add(on)
}
