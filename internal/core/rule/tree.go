package rule

import (
	"fmt"
	"slices"
	"strings"
)

// Tree is a condition as a tree, for forms that edit it. Op is always, and, or, not, or compare.
type Tree struct {
	Op    string `json:"op" enum:"always,and,or,not,compare"`
	Parts []Tree `json:"parts,omitempty" doc:"Of and, or and not"`
	// Field, Operator and Values are those of a comparison.
	Field    string   `json:"field,omitempty"`
	Operator string   `json:"operator,omitempty"`
	Values   []string `json:"values,omitempty"`
}

// Tree returns the condition as a tree.
func (c *Condition) Tree() Tree { return tree(c.root) }

func tree(n node) Tree {
	switch n := n.(type) {
	case anyOf:
		return Tree{Op: "or", Parts: trees(n.parts)}
	case allOf:
		return Tree{Op: "and", Parts: trees(n.parts)}
	case negation:
		return Tree{Op: "not", Parts: []Tree{tree(n.part)}}
	case comparison:
		return Tree{Op: "compare", Field: n.name, Operator: string(n.op), Values: n.values}
	}
	return Tree{Op: "always"}
}

func trees(parts []node) []Tree {
	out := make([]Tree, len(parts))
	for i, part := range parts {
		out[i] = tree(part)
	}
	return out
}

// Text writes a tree as the text of a condition, which is yet to be parsed: nothing in it is checked but its depth.
func (t Tree) Text() (string, error) {
	var b strings.Builder
	if err := t.write(&b, 0); err != nil {
		return "", err
	}
	return b.String(), nil
}

func (t Tree) write(b *strings.Builder, depth int) error {
	if depth > maxDepth || b.Len() > 2*maxLength {
		return fmt.Errorf("the tree is nested too deeply, or too large")
	}
	switch t.Op {
	case "and", "or":
		if len(t.Parts) == 0 {
			return fmt.Errorf("%s without parts", t.Op)
		}
		b.WriteByte('(')
		for i, part := range t.Parts {
			if i > 0 {
				b.WriteString(" " + t.Op + " ")
			}
			if err := part.write(b, depth+1); err != nil {
				return err
			}
		}
		b.WriteByte(')')
		return nil
	case "not":
		if len(t.Parts) != 1 {
			return fmt.Errorf("not takes one part, not %d", len(t.Parts))
		}
		b.WriteString("not ")
		return t.Parts[0].write(b, depth+1)
	case "compare":
		if strings.TrimSpace(t.Field) == "" {
			return fmt.Errorf("a field was expected: choose what to ask about")
		}
		if len(t.Values) == 0 != (t.Operator == string(Exists)) || slices.Contains(t.Values, "") {
			return fmt.Errorf("a value was expected for %s %s", t.Field, t.Operator)
		}
		b.WriteString(strings.Join(strings.Fields(t.Field), "") + " " + t.Operator)
		for i, value := range t.Values {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteString(" " + Quote(value))
		}
		return nil
	case "always":
		b.WriteString("always")
		return nil
	}
	return fmt.Errorf("%q is no part of a condition", t.Op)
}
