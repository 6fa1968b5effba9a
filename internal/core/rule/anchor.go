package rule

import (
	"tollgate.example/key/internal/core/facts"
)

// Source is one field that conditions ask about, as an index over many conditions reads it.
type Source struct {
	name  string
	key   string
	field *Field
}

// GroupSource is the groups of the person.
func GroupSource() Source {
	field, _ := lookup("group")
	return Source{name: "group", field: field}
}

// Name is the field as written.
func (s Source) Name() string { return s.name }

// Values returns what facts have in the field: a list, or one value. It does not allocate.
func (s Source) Values(f *facts.Facts) (one string, list []string, isList bool) {
	if s.field.many != nil {
		return "", s.field.many(f, s.key), true
	}
	return s.field.one(f, s.key), nil, false
}

// Anchor is what facts must have to fulfil a condition: one of the values in the field.
type Anchor struct {
	Source
	Wanted []string
}

// Anchors lists requirements that are necessary, each by itself, for the condition to be fulfilled.
func (c *Condition) Anchors() []Anchor { return anchors(c.root) }

func anchors(n node) []Anchor {
	switch n := n.(type) {
	case allOf:
		var out []Anchor
		for _, part := range n.parts {
			out = append(out, anchors(part)...)
		}
		return out
	case anyOf: // what every part requires of the same field, put together
		out := anchors(n.parts[0])
		for _, part := range n.parts[1:] {
			out = merge(out, anchors(part))
		}
		return out
	case comparison:
		if (n.op == Is || n.op == In) && (n.field.one != nil || n.field.many != nil) {
			return []Anchor{{Source{n.name, n.key, n.field}, n.values}}
		}
	}
	return nil
}

func merge(a, b []Anchor) []Anchor {
	var out []Anchor
	for _, x := range a {
		for _, y := range b {
			if x.name == y.name {
				out = append(out, Anchor{x.Source, append(append([]string(nil), x.Wanted...), y.Wanted...)})
				break
			}
		}
	}
	return out
}

// Single reports whether the field has one value at most.
func (s Source) Single() bool { return s.field.many == nil }
