// Package rule is the condition language of lanes and policies: it parses a text, checks the types, compiles it to
// a function over facts, prints it back in its one canonical form, and explains what it wanted and what it found.
//
//	condition  = "always" | or
//	or         = and { "or" and }
//	and        = not { "and" not }
//	not        = "not" not | "(" or ")" | comparison
//	comparison = field "exists" | field operator value { "," value }
//	operator   = "is" | "is not" | "in" | "not in" | "starts" | "ends" | "contains" | "matches" | "within" | "at least"
//
// Values are bare words or quoted with "; inside quotes, \" and \\ stand for themselves. Text compares without
// regard to case. Lists (group, person.*) fit if any of their values does; is not and not in fit if none does.
package rule

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/facts"
)

// Error is a fault in a condition, with the 1-based column (in characters) at which it was noticed.
type Error struct {
	Column  int
	Message string
	Remedy  string
}

func (e *Error) Error() string {
	text := fmt.Sprintf("column %d: %s", e.Column, e.Message)
	if e.Remedy != "" {
		text += ". " + e.Remedy
	}
	return text
}

const (
	maxLength = 8000
	maxDepth  = 50
	maxValues = 500
)

// Operator compares a field with values.
type Operator string

const (
	Is       Operator = "is"
	IsNot    Operator = "is not"
	In       Operator = "in"
	NotIn    Operator = "not in"
	Starts   Operator = "starts"
	Ends     Operator = "ends"
	Contains Operator = "contains"
	Matches  Operator = "matches"
	Within   Operator = "within"
	AtLeast  Operator = "at least"
	Exists   Operator = "exists"
)

var operators = []Operator{Is, IsNot, In, NotIn, Starts, Ends, Contains, Matches, Within, AtLeast, Exists}

// node is a part of a condition.
type node interface {
	print(b *strings.Builder, parent int)
	compile() func(*facts.Facts) bool
}

type (
	allOf      struct{ parts []node }
	anyOf      struct{ parts []node }
	negation   struct{ part node }
	constant   struct{}
	comparison struct {
		name     string // as printed
		key      string
		field    *Field
		op       Operator
		values   []string
		patterns []*regexp.Regexp
		hours    []*calendar.Calendar
	}
)

// Condition is a parsed and type-checked condition.
type Condition struct {
	root node
	eval func(*facts.Facts) bool
}

// Calendars finds a compiled calendar by name; nil if there is none of that name.
type Calendars func(name string) *calendar.Calendar

// Parse reads a condition that may use fields up to the stage. The error, if any, is an *Error. Without calendars their
// names are taken as they are, and time never fits.
func Parse(text string, stage Stage, calendars Calendars) (*Condition, error) {
	tokens, err := lex(text)
	if err != nil {
		return nil, err
	}
	p := &parser{tokens: tokens, stage: stage, calendars: calendars}
	if p.peek().kind == end {
		return nil, &Error{1, "the condition is empty", "Write always to match everyone."}
	}
	root, err := p.or(0)
	if err != nil {
		return nil, err
	}
	if t := p.peek(); t.kind != end {
		return nil, &Error{t.col, fmt.Sprintf("%q was not expected here", t.text),
			"Join two comparisons with and, or or."}
	}
	return &Condition{root: root, eval: root.compile()}, nil
}

type parser struct {
	tokens    []token
	at        int
	stage     Stage
	calendars Calendars
}

func (p *parser) peek() token { return p.tokens[p.at] }

func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != end {
		p.at++
	}
	return t
}

// keyword takes the next token if it is that bare word.
func (p *parser) keyword(text string) bool {
	if t := p.peek(); t.kind == word && strings.EqualFold(t.text, text) {
		p.at++
		return true
	}
	return false
}

func (p *parser) or(depth int) (node, *Error) {
	first, err := p.and(depth)
	if err != nil {
		return nil, err
	}
	parts := []node{first}
	for p.keyword("or") {
		part, err := p.and(depth)
		if err != nil {
			return nil, err
		}
		parts = append(parts, part)
	}
	if len(parts) == 1 {
		return first, nil
	}
	return anyOf{parts}, nil
}

func (p *parser) and(depth int) (node, *Error) {
	first, err := p.not(depth)
	if err != nil {
		return nil, err
	}
	parts := []node{first}
	for p.keyword("and") {
		part, err := p.not(depth)
		if err != nil {
			return nil, err
		}
		parts = append(parts, part)
	}
	if len(parts) == 1 {
		return first, nil
	}
	return allOf{parts}, nil
}

func (p *parser) not(depth int) (node, *Error) {
	if depth > maxDepth {
		return nil, &Error{p.peek().col, "parentheses are nested too deeply",
			"Split the condition over several policies."}
	}
	if p.keyword("not") {
		part, err := p.not(depth + 1)
		if err != nil {
			return nil, err
		}
		return negation{part}, nil
	}
	if t := p.peek(); t.kind == open {
		p.next()
		inner, err := p.or(depth + 1)
		if err != nil {
			return nil, err
		}
		if shutting := p.next(); shutting.kind != shut {
			return nil, &Error{shutting.col, fmt.Sprintf("the parenthesis opened at column %d is not closed", t.col),
				"Add )."}
		}
		return inner, nil
	}
	if p.keyword("always") {
		return constant{}, nil
	}
	return p.comparison()
}

func (p *parser) comparison() (node, *Error) {
	t := p.next()
	if t.kind != word {
		what := fmt.Sprintf("%q", t.text)
		if t.kind == end {
			what = "the end"
		}
		return nil, &Error{t.col, "a field was expected here, not " + what,
			"Write for instance group is \"Deck Officers\"."}
	}
	field, key := lookup(t.text)
	if field == nil {
		remedy := "The fields are " + fieldNames() + "."
		if s := suggest(t.text); s != "" {
			remedy = fmt.Sprintf("Did you mean %s?", s)
		}
		return nil, &Error{t.col, fmt.Sprintf("there is no field %q", t.text), remedy}
	}
	if field.Stage > p.stage {
		return nil, &Error{t.col, fmt.Sprintf("%s is not known yet when the lane is chosen", t.text),
			"Use it in a policy of the lane; a lane may look only at the request."}
	}
	c := comparison{field: field, key: key, name: strings.TrimSuffix(field.Name, "*") + key}
	opCol := p.peek().col
	op, err := p.operator()
	if err != nil {
		return nil, err
	}
	c.op = op
	if err := c.suits(opCol); err != nil {
		return nil, err
	}
	if op == Exists {
		return c, nil
	}
	if err := p.values(&c); err != nil {
		return nil, err
	}
	return c, nil
}

// suits checks that the field can be compared so.
func (c *comparison) suits(column int) *Error {
	if slices.Contains(c.field.Operators(), c.op) {
		return nil
	}
	switch {
	case c.field.Type == Age:
		return &Error{column, fmt.Sprintf("%s is a duration; compare it with within or at least",
			c.name), "Write for instance " + c.name + " within 8h, or " + c.name + " exists."}
	case c.field.Type == Hours:
		return &Error{column, fmt.Sprintf("%s is compared with calendars", c.name),
			"Write for instance time is office-hours, or time not in office-hours, holidays."}
	case c.op == Within:
		return &Error{column, fmt.Sprintf("within compares addresses, and %s is not one", c.name),
			"Use is, in, starts or matches."}
	case c.op == AtLeast:
		return &Error{column, fmt.Sprintf("at least compares numbers and durations, and %s is neither", c.name),
			"Use is, in or within."}
	}
	return &Error{column, fmt.Sprintf("%s compares text, and %s is an address", c.op, c.name), "Use is, in or within."}
}

func fieldNames() string {
	names := make([]string, len(fields))
	for i := range fields {
		names[i] = fields[i].Name
	}
	return strings.Join(names, ", ")
}

func (p *parser) operator() (Operator, *Error) {
	t := p.next()
	if t.kind == word {
		switch lower := strings.ToLower(t.text); {
		case lower == "is" && p.keyword("not"):
			return IsNot, nil
		case lower == "not" && p.keyword("in"):
			return NotIn, nil
		case lower == "at" && p.keyword("least"):
			return AtLeast, nil
		default:
			for _, op := range operators {
				if string(op) == lower {
					return op, nil
				}
			}
		}
	}
	names := make([]string, len(operators))
	for i, op := range operators {
		names[i] = string(op)
	}
	remedy := "Use one of " + strings.Join(names, ", ") + "."
	if near := nearest(strings.ToLower(t.text), names, 2); near != "" {
		remedy = fmt.Sprintf("Did you mean %s?", near)
	}
	return "", &Error{t.col, fmt.Sprintf("an operator was expected here, not %q", t.text), remedy}
}

func (p *parser) values(c *comparison) *Error {
	for {
		t := p.next()
		if t.kind != word && t.kind != quoted {
			what := fmt.Sprintf("%q", t.text)
			if t.kind == end {
				what = "the end"
			}
			return &Error{t.col, "a value was expected here, not " + what,
				"Put values with spaces or commas between quotation marks."}
		}
		if len(c.values) == maxValues {
			return &Error{t.col, fmt.Sprintf("more than %d values", maxValues), "Use a group table, or a tag."}
		}
		if err := c.add(t, p.calendars); err != nil {
			return err
		}
		if p.peek().kind != comma {
			return nil
		}
		if sep := p.next(); c.op != In && c.op != NotIn {
			remedy := "Use in for several values."
			if c.op == IsNot {
				remedy = "Use not in for several values."
			}
			return &Error{sep.col, fmt.Sprintf("%s takes one value", c.op), remedy}
		}
	}
}
