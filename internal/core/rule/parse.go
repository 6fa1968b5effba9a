// Package rule is the condition language of lanes and policies: it parses a text, checks the types, compiles it to
// a function over facts, prints it back in its one canonical form, and explains what it wanted and what it found.
//
//	condition  = "always" | or
//	or         = and { "or" and }
//	and        = not { "and" not }
//	not        = "not" not | "(" or ")" | comparison
//	comparison = field "exists" | field operator value { "," value }
//	operator   = "is" | "is not" | "in" | "not in" | "starts" | "ends" | "contains" | "matches" | "within"
//
// Values are bare words or quoted with "; inside quotes, \" and \\ stand for themselves. Text compares without
// regard to case. Lists (group, person.*) fit if any of their values does; is not and not in fit if none does.
package rule

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

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

type kind int

const (
	word kind = iota
	quoted
	open
	shut
	comma
	end
)

type token struct {
	kind kind
	text string
	col  int
}

// lex splits a condition into tokens.
func lex(text string) ([]token, *Error) {
	if len(text) > maxLength {
		return nil, &Error{maxLength, fmt.Sprintf("the condition has %d octets, at most %d are allowed", len(text), maxLength), "Use a group table, or several policies."}
	}
	if !utf8.ValidString(text) {
		return nil, &Error{1, "the condition is not valid UTF-8", ""}
	}
	var out []token
	runes := []rune(text)
	for i := 0; i < len(runes); {
		r := runes[i]
		switch {
		case unicode.IsSpace(r):
			i++
		case r == '(':
			out, i = append(out, token{open, "(", i + 1}), i+1
		case r == ')':
			out, i = append(out, token{shut, ")", i + 1}), i+1
		case r == ',':
			out, i = append(out, token{comma, ",", i + 1}), i+1
		case r == '"':
			value, next, err := lexQuoted(runes, i)
			if err != nil {
				return nil, err
			}
			out, i = append(out, token{quoted, value, i + 1}), next
		default:
			start := i
			for i < len(runes) && !unicode.IsSpace(runes[i]) && !strings.ContainsRune(`(),"`, runes[i]) {
				i++
			}
			out = append(out, token{word, string(runes[start:i]), start + 1})
		}
	}
	return append(out, token{end, "", len(runes) + 1}), nil
}

func lexQuoted(runes []rune, start int) (string, int, *Error) {
	var value strings.Builder
	for i := start + 1; i < len(runes); i++ {
		switch runes[i] {
		case '"':
			return value.String(), i + 1, nil
		case '\\':
			if i+1 < len(runes) && (runes[i+1] == '"' || runes[i+1] == '\\') {
				i++
			}
		}
		value.WriteRune(runes[i])
	}
	return "", 0, &Error{start + 1, "the quotation mark is not closed", `Add " at the end of the value.`}
}

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
	Exists   Operator = "exists"
)

var operators = []Operator{Is, IsNot, In, NotIn, Starts, Ends, Contains, Matches, Within, Exists}

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
	}
)

// Condition is a parsed and type-checked condition.
type Condition struct {
	root node
	eval func(*facts.Facts) bool
}

// Parse reads a condition that may use fields up to the stage. The error, if any, is an *Error.
func Parse(text string, stage Stage) (*Condition, error) {
	tokens, err := lex(text)
	if err != nil {
		return nil, err
	}
	p := &parser{tokens: tokens, stage: stage}
	if p.peek().kind == end {
		return nil, &Error{1, "the condition is empty", "Write always if it should fit everybody."}
	}
	root, err := p.or(0)
	if err != nil {
		return nil, err
	}
	if t := p.peek(); t.kind != end {
		return nil, &Error{t.col, fmt.Sprintf("%q was not expected here", t.text), "Join two comparisons with and, or or."}
	}
	return &Condition{root: root, eval: root.compile()}, nil
}

type parser struct {
	tokens []token
	at     int
	stage  Stage
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
		return nil, &Error{p.peek().col, "parentheses are nested too deeply", "Split the condition over several policies."}
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
			return nil, &Error{shutting.col, fmt.Sprintf("the parenthesis opened at column %d is not closed", t.col), "Add )."}
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
		return nil, &Error{t.col, "a field was expected here, not " + what, "Write for instance group is \"Deck Officers\"."}
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
		return nil, &Error{t.col, fmt.Sprintf("%s is not known yet when a lane is chosen", t.text), "Use it in a policy of the lane; a lane may look only at the request."}
	}
	c := comparison{field: field, key: key, name: strings.TrimSuffix(field.Name, "*") + key}
	opCol := p.peek().col
	op, err := p.operator()
	if err != nil {
		return nil, err
	}
	c.op = op
	if op == Exists {
		return c, nil
	}
	if field.Type == Age {
		if op != Within {
			return nil, &Error{opCol, fmt.Sprintf("%s is an age, which is compared with within", c.name), "Write for instance " + c.name + " within 8h, or " + c.name + " exists."}
		}
		if err := p.values(&c); err != nil {
			return nil, err
		}
		return c, nil
	}
	if (op == Within) != (field.Type == Address) && (op == Within || op != Is && op != IsNot && op != In && op != NotIn) {
		if op == Within {
			return nil, &Error{opCol, fmt.Sprintf("within compares addresses, and %s is not one", c.name), "Use is, in, starts or matches."}
		}
		return nil, &Error{opCol, fmt.Sprintf("%s compares text, and %s is an address", op, c.name), "Use is, in or within."}
	}
	if err := p.values(&c); err != nil {
		return nil, err
	}
	return c, nil
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
	return "", &Error{t.col, fmt.Sprintf("an operator was expected here, not %q", t.text), "Use one of " + strings.Join(names, ", ") + "."}
}

func (p *parser) values(c *comparison) *Error {
	for {
		t := p.next()
		if t.kind != word && t.kind != quoted {
			what := fmt.Sprintf("%q", t.text)
			if t.kind == end {
				what = "the end"
			}
			return &Error{t.col, "a value was expected here, not " + what, "Put values with spaces or commas between quotation marks."}
		}
		if len(c.values) == maxValues {
			return &Error{t.col, fmt.Sprintf("more than %d values", maxValues), "Use a group table, or a tag."}
		}
		if err := c.add(t); err != nil {
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

// add checks one value against the type of the field.
func (c *comparison) add(t token) *Error {
	value := t.text
	switch {
	case c.op == Matches:
		re, err := regexp.Compile("(?i)" + value)
		if err != nil {
			return &Error{t.col, "the pattern cannot be read: " + strings.TrimPrefix(err.Error(), "error parsing regexp: "), "Patterns follow RE2."}
		}
		c.patterns = append(c.patterns, re)
	case c.field.Type == Age:
		if age, ok := parseAge(value); !ok || age <= 0 {
			return &Error{t.col, fmt.Sprintf("%q is no length of time", value), "Write for instance 30m, 8h or 2d."}
		}
	case c.field.Type == Address:
		prefix, ok := parseAddress(value)
		if !ok {
			return &Error{t.col, fmt.Sprintf("%q is not an address", value), "Write for instance 192.0.2.7 or 2001:db8::/32."}
		}
		if c.op != Within && !prefix.IsSingleIP() {
			return &Error{t.col, fmt.Sprintf("%q is a prefix", value), "Use within for prefixes."}
		}
		value = prefix.String()
		if c.op != Within {
			value = prefix.Addr().String()
		}
	case c.field.Type == MAC && c.op != Starts && c.op != Ends && c.op != Contains:
		mac, ok := facts.FormatMAC(value)
		if !ok {
			return &Error{t.col, fmt.Sprintf("%q is not a MAC address", value), "Write for instance 02-00-5E-10-7A-31, or use starts for a prefix."}
		}
		value = mac
	}
	c.values = append(c.values, value)
	return nil
}

// parseAge reads a length of time in minutes, hours or days.
func parseAge(text string) (time.Duration, bool) {
	if number, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.Atoi(number)
		return time.Duration(n) * 24 * time.Hour, err == nil && n <= 3650
	}
	age, err := time.ParseDuration(text)
	return age, err == nil
}
