package rule

import (
	"slices"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// Goal is a condition that is to be fulfilled, or not.
type Goal struct {
	root node
	want bool
}

// Must is the goal that the condition is fulfilled.
func (c *Condition) Must() Goal { return Goal{c.root, true} }

// MustNot is the goal that the condition is not fulfilled.
func (c *Condition) MustNot() Goal { return Goal{c.root, false} }

// MustBeOneOf is the goal that a text or list field has one of the values.
func MustBeOneOf(field string, values []string) Goal { return oneOf(field, values, true) }

// MustBeNoneOf is the goal that it has none of them.
func MustBeNoneOf(field string, values []string) Goal { return oneOf(field, values, false) }

func oneOf(name string, values []string, want bool) Goal {
	field, key := lookup(name)
	return Goal{comparison{name: name, key: key, field: field, op: In, values: values}, want}
}

// Answer is the outcome of a search.
type Answer int

const (
	// Possible facts were found.
	Possible Answer = iota
	// Impossible is proven: no facts at all fulfil the goals.
	Impossible
	// Unknown means that the search gave up, or that the language holds something it cannot reason about.
	Unknown
)

// Search looks for facts that fulfil goals. It reasons about each field by itself, and takes facts of different fields
// to be independent; that is more than can really be, so what it proves impossible is so. Facts that it finds have been
// tried on every goal.
type Search struct {
	// At is the moment around which it looks.
	At time.Time
	// Blocked returns goals that the facts found so far fail to fulfil, nil if there are none: of many conditions that
	// are all to be missed, only those that are in the way have to be reasoned about.
	Blocked func(*facts.Facts) []Goal
	// Steps bounds the work.
	Steps int

	unsure bool
}

// literal is a comparison that has to come out so.
type literal struct {
	comparison
	want bool
}

// Find looks for facts that fulfil all goals.
func (s *Search) Find(goals ...Goal) (*Witness, Answer) {
	s.unsure = false
	if found := s.solve(goals, nil, goals); found != nil {
		return found, Possible
	}
	if s.unsure {
		return nil, Unknown
	}
	return nil, Impossible
}

// solve takes goals apart into comparisons, branching where there is a choice.
func (s *Search) solve(open []Goal, have []literal, all []Goal) *Witness {
	if s.Steps--; s.Steps < 0 {
		s.unsure = true
		return nil
	}
	if len(open) == 0 {
		return s.complete(have, all)
	}
	goal, rest := open[0], open[1:]
	switch n := goal.root.(type) {
	case constant:
		if !goal.want {
			return nil
		}
		return s.solve(rest, have, all)
	case negation:
		return s.solve(append([]Goal{{n.part, !goal.want}}, rest...), have, all)
	case allOf:
		return s.parts(n.parts, goal.want, goal.want, rest, have, all)
	case anyOf:
		return s.parts(n.parts, goal.want, !goal.want, rest, have, all)
	case comparison:
		l := literal{n, goal.want}
		switch n.op { // the negative operators are the positive ones turned round
		case IsNot:
			l.op, l.want = Is, !l.want
		case NotIn:
			l.op, l.want = In, !l.want
		}
		next := append(slices.Clip(have), l)
		if _, answer := solveField(concerning(next, l.name), s.At); answer == Impossible {
			return nil
		}
		return s.solve(rest, next, all)
	}
	return nil
}

// parts goes on with all parts, or with one after the other.
func (s *Search) parts(parts []node, want, together bool, rest []Goal, have []literal, all []Goal) *Witness {
	if together {
		open := make([]Goal, 0, len(parts)+len(rest))
		for _, part := range parts {
			open = append(open, Goal{part, want})
		}
		return s.solve(append(open, rest...), have, all)
	}
	for _, part := range parts {
		if found := s.solve(append([]Goal{{part, want}}, rest...), have, all); found != nil {
			return found
		}
		if s.Steps < 0 {
			return nil
		}
	}
	return nil
}

// complete makes facts of the comparisons, tries them on the goals, and goes on with what they fail.
func (s *Search) complete(have []literal, all []Goal) *Witness {
	w := &Witness{}
	done := map[string]bool{}
	for _, l := range have {
		subject := subjectOf(l.name)
		if done[subject] {
			continue
		}
		done[subject] = true
		value, answer := solveField(concerning(have, l.name), s.At)
		switch answer {
		case Impossible:
			return nil
		case Unknown:
			s.unsure = true
			return nil
		}
		value.subject, value.key = subject, l.key
		w.values = append(w.values, value)
	}
	w.build(s.At)
	for _, goal := range all {
		if evaluate(goal.root, w.Facts) != goal.want { // fields that depend on each other
			s.unsure = true
			return nil
		}
	}
	if s.Blocked == nil {
		return w
	}
	more := s.Blocked(w.Facts)
	if more == nil {
		return w
	}
	for _, goal := range more {
		if evaluate(goal.root, w.Facts) == goal.want { // no progress would be made
			s.unsure = true
			return nil
		}
	}
	return s.solve(more, have, append(slices.Clip(all), more...))
}

// subjectOf joins the fields that are solved together: the method in full and its family.
func subjectOf(name string) string {
	if name == "method" {
		return "proof"
	}
	return name
}

// concerning picks the comparisons of one subject.
func concerning(list []literal, name string) []literal {
	subject := subjectOf(name)
	var out []literal
	for _, l := range list {
		if subjectOf(l.name) == subject {
			out = append(out, l)
		}
	}
	return out
}

// evaluate decides a node without compiling the whole of it first.
func evaluate(n node, f *facts.Facts) bool {
	switch n := n.(type) {
	case allOf:
		return !slices.ContainsFunc(n.parts, func(part node) bool { return !evaluate(part, f) })
	case anyOf:
		return slices.ContainsFunc(n.parts, func(part node) bool { return evaluate(part, f) })
	case negation:
		return !evaluate(n.part, f)
	case comparison:
		return n.compile()(f)
	}
	return true
}

// Either is the goal that one of two is reached.
func Either(a, b Goal) Goal {
	turn := func(g Goal) node {
		if g.want {
			return g.root
		}
		return negation{g.root}
	}
	return Goal{anyOf{[]node{turn(a), turn(b)}}, true}
}

// Turned is the opposite goal.
func (g Goal) Turned() Goal { return Goal{g.root, !g.want} }
