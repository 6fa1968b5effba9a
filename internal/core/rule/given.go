package rule

import (
	"strings"

	"tollgate.example/key/internal/core/facts"
)

// never is what no facts fulfil.
var never = negation{constant{}}

// Given is what remains of the condition for a person who is known while the request is not: fits if it is fulfilled
// by the person alone, otherwise what is still to be fulfilled, "" if nothing can.
func (c *Condition) Given(f *facts.Facts) (fits bool, rest string) {
	switch n := reduce(c.root, f); n {
	case constant{}:
		return true, ""
	case never:
		return false, ""
	default:
		var b strings.Builder
		n.print(&b, 0)
		return false, b.String()
	}
}

// ofPerson reports whether a field is known from the person alone.
func ofPerson(name string) bool {
	return name == "group" || name == "store" || name == "person" || name == "kind" || strings.HasPrefix(name,
		"person.")
}

func reduce(n node, f *facts.Facts) node {
	switch n := n.(type) {
	case comparison:
		if !ofPerson(n.name) {
			return n
		}
		if n.compile()(f) {
			return constant{}
		}
		return never
	case negation:
		switch part := reduce(n.part, f); part {
		case constant{}:
			return never
		case never:
			return constant{}
		default:
			return negation{part}
		}
	case allOf:
		return reduceList(n.parts, f, constant{}, never, func(parts []node) node { return allOf{parts} })
	case anyOf:
		return reduceList(n.parts, f, never, constant{}, func(parts []node) node { return anyOf{parts} })
	}
	return n
}

// reduceList leaves out parts that do not matter, and ends at one that decides.
func reduceList(parts []node, f *facts.Facts, neutral, decisive node, join func([]node) node) node {
	var left []node
	for _, part := range parts {
		switch part = reduce(part, f); part {
		case neutral:
		case decisive:
			return decisive
		default:
			left = append(left, part)
		}
	}
	switch len(left) {
	case 0:
		return neutral
	case 1:
		return left[0]
	}
	return join(left)
}
