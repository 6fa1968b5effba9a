package rule

import (
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
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
		if !(r == '-' || r == '_' || r == '.' || r == ':' || r == '/' || r == '@' || r >= '0' && r <= '9' ||
			r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z') {
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
		return c.field.has(c.key)
	}
	negative := c.op == IsNot || c.op == NotIn
	field, key := c.field, c.key
	switch {
	case field.Type == Hours:
		hours := c.hours
		return func(f *facts.Facts) bool {
			for _, h := range hours {
				if h.Holds(f.At) {
					return !negative
				}
			}
			return negative && len(hours) > 0
		}
	case field.age != nil:
		limit, _ := parseAge(c.values[0])
		if c.op == AtLeast {
			return func(f *facts.Facts) bool { age, known := field.age(f); return known && age >= limit }
		}
		return func(f *facts.Facts) bool { age, known := field.age(f); return known && age <= limit }
	case field.address != nil:
		test := c.testAddress()
		return func(f *facts.Facts) bool { return test(field.address(f)) != negative }
	}
	test := c.test()
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

// has returns a test for whether the field has a value.
func (field *Field) has(key string) func(*facts.Facts) bool {
	switch {
	case field.age != nil:
		return func(f *facts.Facts) bool { _, known := field.age(f); return known }
	case field.address != nil:
		return func(f *facts.Facts) bool { return field.address(f).IsValid() }
	case field.many != nil:
		return func(f *facts.Facts) bool { return len(field.many(f, key)) > 0 }
	}
	return func(f *facts.Facts) bool { return field.one(f, key) != "" }
}

// text writes what facts have in the field, for people.
func (field *Field) text(f *facts.Facts, key string) string {
	switch {
	case field.Type == Hours:
		return f.At.Format("Mon 2006-01-02 15:04 MST")
	case field.age != nil:
		if age, known := field.age(f); known {
			return age.Round(time.Second).String()
		}
		return ""
	case field.address != nil:
		if a := field.address(f); a.IsValid() {
			return a.String()
		}
		return ""
	case field.many != nil:
		return strings.Join(field.many(f, key), ", ")
	}
	return field.one(f, key)
}

// testAddress returns the comparison of an address with those of the condition.
func (c comparison) testAddress() func(netip.Addr) bool {
	prefixes := make([]netip.Prefix, len(c.values))
	for i, value := range c.values {
		prefixes[i], _ = parseAddress(value)
	}
	return func(have netip.Addr) bool {
		have = have.Unmap()
		for _, p := range prefixes {
			if p.Contains(have) {
				return true
			}
		}
		return false
	}
}

// test returns the comparison of one text of the field with the values of the condition.
func (c comparison) test() func(string) bool {
	switch c.op {
	case Matches:
		return c.patterns[0].MatchString
	case AtLeast:
		limit, _ := parseNumber(c.values[0])
		return func(have string) bool {
			n, ok := parseNumber(have)
			return ok && n >= limit
		}
	}
	compare := strings.EqualFold
	switch c.op {
	case Starts:
		compare = startsFold
	case Ends:
		compare = endsFold
	case Contains:
		compare = containsFold
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

// Explain lists every comparison of the condition with what was found.
func (c *Condition) Explain(f *facts.Facts) []results.Compared {
	out := []results.Compared{}
	walk(c.root, func(n comparison) {
		var b strings.Builder
		n.print(&b, 0)
		out = append(out, results.Compared{Wanted: b.String(), Found: n.field.text(f, n.key), Fits: n.compile()(f)})
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
