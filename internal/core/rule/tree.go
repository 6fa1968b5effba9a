package rule

import (
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/results"
)

// Tree returns the condition as a tree.
func (c *Condition) Tree() results.Tree { return tree(c.root) }

func tree(n node) results.Tree {
	switch n := n.(type) {
	case anyOf:
		return results.Tree{Op: "or", Parts: trees(n.parts)}
	case allOf:
		return results.Tree{Op: "and", Parts: trees(n.parts)}
	case negation:
		return results.Tree{Op: "not", Parts: []results.Tree{tree(n.part)}}
	case comparison:
		return results.Tree{Op: "compare", Field: n.name, Operator: string(n.op), Values: n.values}
	}
	return results.Tree{Op: "always"}
}

func trees(parts []node) []results.Tree {
	out := make([]results.Tree, len(parts))
	for i, part := range parts {
		out[i] = tree(part)
	}
	return out
}

// TextOf writes a tree as the text of a condition, which is yet to be parsed: nothing in it is checked but its depth.
func TextOf(t *results.Tree) (string, error) {
	var b strings.Builder
	if err := write(&b, t, 0); err != nil {
		return "", err
	}
	return b.String(), nil
}

func write(b *strings.Builder, t *results.Tree, depth int) error {
	if depth > maxDepth || b.Len() > 2*maxLength {
		return fmt.Errorf("the tree is nested too deeply, or too large")
	}
	switch t.Op {
	case "and", "or":
		if len(t.Parts) == 0 {
			return fmt.Errorf("%s without parts", t.Op)
		}
		b.WriteByte('(')
		for i := range t.Parts {
			if i > 0 {
				b.WriteString(" " + t.Op + " ")
			}
			if err := write(b, &t.Parts[i], depth+1); err != nil {
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
		return write(b, &t.Parts[0], depth+1)
	case "compare":
		if strings.TrimSpace(t.Field) == "" {
			return fmt.Errorf("a field was expected: choose a field")
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
	return fmt.Errorf("%q is not part of a condition", t.Op)
}
