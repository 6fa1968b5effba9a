package rule

import (
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// Fits reports whether the facts fulfil the condition. It does not allocate.
func (c *Condition) Fits(f *facts.Facts) bool { return c.eval(f) }

// String prints the canonical form, which parses to the same condition.
func (c *Condition) String() string {
	var b strings.Builder
	c.root.print(&b, 0)
	return b.String()
}

// Binding strengths, for as few parentheses as possible.
const (
	strengthOr = iota + 1
	strengthAnd
	strengthNot
)

func (n anyOf) print(b *strings.Builder, parent int) {
	printList(b, n.parts, " or ", strengthOr, parent)
}
func (n allOf) print(b *strings.Builder, parent int) {
	printList(b, n.parts, " and ", strengthAnd, parent)
}
func (constant) print(b *strings.Builder, _ int) { b.WriteString("always") }
func (n negation) print(b *strings.Builder, _ int) {
	b.WriteString("not ")
	n.part.print(b, strengthNot)
}

func printList(b *strings.Builder, parts []node, sep string, strength, parent int) {
	if parent >= strength {
		b.WriteByte('(')
		defer b.WriteByte(')')
	}
	for i, part := range parts {
		if i > 0 {
			b.WriteString(sep)
		}
		part.print(b, strength)
	}
}

func (c comparison) print(b *strings.Builder, _ int) {
	b.WriteString(c.name)
	b.WriteByte(' ')
	b.WriteString(string(c.op))
	for i, value := range c.values {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteByte(' ')
		b.WriteString(Quote(value))
	}
}

// Quote writes a value bare where it can be read back so, else between quotation marks.
func Quote(value string) string {
	plain := value != ""
	for _, r := range value {
		if !(r == '-' || r == '_' || r == '.' || r == ':' || r == '/' || r == '@' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z') {
			plain = false
			break
		}
	}
	switch strings.ToLower(value) {
	case "and", "or", "not", "always":
		plain = false
	}
	if plain {
		return value
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`
}

func (n anyOf) compile() func(*facts.Facts) bool {
	parts := compileAll(n.parts)
	return func(f *facts.Facts) bool {
		for _, part := range parts {
			if part(f) {
				return true
			}
		}
		return false
	}
}

func (n allOf) compile() func(*facts.Facts) bool {
	parts := compileAll(n.parts)
	return func(f *facts.Facts) bool {
		for _, part := range parts {
			if !part(f) {
				return false
			}
		}
		return true
	}
}

func compileAll(nodes []node) []func(*facts.Facts) bool {
	out := make([]func(*facts.Facts) bool, len(nodes))
	for i, n := range nodes {
		out[i] = n.compile()
	}
	return out
}

func (n negation) compile() func(*facts.Facts) bool {
	part := n.part.compile()
	return func(f *facts.Facts) bool { return !part(f) }
}

func (constant) compile() func(*facts.Facts) bool { return func(*facts.Facts) bool { return true } }

func (c comparison) compile() func(*facts.Facts) bool {
	if c.op == Exists {
		return func(f *facts.Facts) bool {
			if c.field.many != nil {
				return len(c.field.many(f, c.key)) > 0
			}
			return c.field.one(f, c.key) != ""
		}
	}
	test := c.test()
	negative := c.op == IsNot || c.op == NotIn
	field, key := c.field, c.key
	if field.many == nil {
		return func(f *facts.Facts) bool { return test(field.one(f, key)) != negative }
	}
	return func(f *facts.Facts) bool {
		for _, value := range field.many(f, key) {
			if test(value) {
				return !negative
			}
		}
		return negative
	}
}

// test returns the comparison of one value of the field with the values of the condition.
func (c comparison) test() func(string) bool {
	switch c.op {
	case Matches:
		re := c.patterns[0]
		return re.MatchString
	case Within:
		if c.field.Type == Age {
			limit, _ := parseAge(c.values[0])
			return func(have string) bool {
				age, err := time.ParseDuration(have)
				return err == nil && age <= limit
			}
		}
		prefix, _ := parseAddress(c.values[0])
		return func(have string) bool {
			addr, err := netip.ParseAddr(have)
			return err == nil && prefix.Contains(addr.Unmap())
		}
	}
	compare := strings.EqualFold
	switch c.op {
	case Starts:
		compare = func(have, want string) bool {
			return len(have) >= len(want) && strings.EqualFold(have[:len(want)], want)
		}
	case Ends:
		compare = func(have, want string) bool {
			return len(have) >= len(want) && strings.EqualFold(have[len(have)-len(want):], want)
		}
	case Contains:
		compare = func(have, want string) bool {
			for i := 0; i+len(want) <= len(have); i++ {
				if strings.EqualFold(have[i:i+len(want)], want) {
					return true
				}
			}
			return false
		}
	}
	values := c.values
	return func(have string) bool {
		for _, want := range values {
			if compare(have, want) {
				return true
			}
		}
		return false
	}
}

// Compared is one comparison of a condition and how it went.
type Compared struct {
	Wanted string `json:"wanted"`
	// Found is the value the field had, "" if none.
	Found string `json:"found"`
	Fits  bool   `json:"fits"`
}

// Explain lists every comparison of the condition with what was found.
func (c *Condition) Explain(f *facts.Facts) []Compared {
	out := []Compared{}
	walk(c.root, func(n comparison) {
		var b strings.Builder
		n.print(&b, 0)
		found := ""
		if n.field.many != nil {
			found = strings.Join(n.field.many(f, n.key), ", ")
		} else {
			found = n.field.one(f, n.key)
		}
		out = append(out, Compared{Wanted: b.String(), Found: found, Fits: n.compile()(f)})
	})
	return out
}

// Uses lists the fields that the condition asks about, and the values it compares each with.
func (c *Condition) Uses() map[string][]string {
	out := map[string][]string{}
	walk(c.root, func(n comparison) { out[n.name] = append(out[n.name], n.values...) })
	return out
}

func walk(n node, visit func(comparison)) {
	switch n := n.(type) {
	case anyOf:
		for _, part := range n.parts {
			walk(part, visit)
		}
	case allOf:
		for _, part := range n.parts {
			walk(part, visit)
		}
	case negation:
		walk(n.part, visit)
	case comparison:
		visit(n)
	}
}
