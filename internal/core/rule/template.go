package rule

import (
	"fmt"
	"strings"

	"tollgate.example/key/internal/core/facts"
)

// Template is a text with fields in it: {{person.mail}}, or {{person.mail or "none"}} with what stands in for a value
// that is missing.
type Template struct {
	text  string
	parts []templatePart
}

type templatePart struct {
	text     string // what stands there, or instead
	name     string // the field as printed, "" for text
	key      string
	field    *Field
	optional bool
}

// ParseTemplate reads a template. The error, if any, is an *Error.
func ParseTemplate(text string) (*Template, error) {
	t := &Template{text: text}
	for rest, at := text, 0; ; {
		before, after, found := strings.Cut(rest, "{{")
		if before != "" {
			t.parts = append(t.parts, templatePart{text: before})
		}
		if !found {
			return t, nil
		}
		column := at + len(before) + 3
		inside, more, closed := strings.Cut(after, "}}")
		if !closed {
			return nil, &Error{column - 2, "{{ is not closed", "Add }} after the name of the field."}
		}
		part, err := parsePart(inside, column)
		if err != nil {
			return nil, err
		}
		t.parts = append(t.parts, part)
		at += len(rest) - len(more)
		rest = more
	}
}

func parsePart(inside string, column int) (templatePart, error) {
	tokens, bad := lex(inside)
	if bad != nil {
		return templatePart{}, &Error{column + bad.Column - 1, bad.Message, bad.Remedy}
	}
	if tokens[0].kind != word {
		return templatePart{}, &Error{column, "a field was expected between {{ and }}",
			"Write for instance {{person.mail}}."}
	}
	name := tokens[0].text
	field, key := lookup(name)
	if field == nil {
		remedy := "The fields are those of conditions."
		if s := suggest(name); s != "" {
			remedy = fmt.Sprintf("Did you mean %s?", s)
		}
		return templatePart{}, &Error{column, fmt.Sprintf("there is no field %q", name), remedy}
	}
	part := templatePart{field: field, key: key, name: strings.TrimSuffix(field.Name, "*") + key}
	switch {
	case len(tokens) == 2:
	case len(tokens) == 4 && strings.EqualFold(tokens[1].text, "or") && (tokens[2].kind == word ||
		tokens[2].kind == quoted):
		part.optional, part.text = true, tokens[2].text
	default:
		return templatePart{}, &Error{column + tokens[1].col - 1, "only the word or and one value may follow the field",
			`Write for instance {{person.mail or "none"}}.`}
	}
	return part, nil
}

// String returns the template as written.
func (t *Template) String() string { return t.text }

// Fields lists the fields in it.
func (t *Template) Fields() []string {
	var out []string
	for i := range t.parts {
		if t.parts[i].name != "" {
			out = append(out, t.parts[i].name)
		}
	}
	return out
}

// Fill puts the facts in; of several values the first. missing names a field that has no value and nothing to stand in.
func (t *Template) Fill(f *facts.Facts) (text, missing string) {
	var b strings.Builder
	for i := range t.parts {
		p := &t.parts[i]
		if p.name == "" {
			b.WriteString(p.text)
			continue
		}
		value := ""
		if p.field.many != nil {
			if list := p.field.many(f, p.key); len(list) > 0 {
				value = list[0]
			}
		} else {
			value = p.field.text(f, p.key)
		}
		switch {
		case value != "":
			b.WriteString(value)
		case p.optional:
			b.WriteString(p.text)
		default:
			return "", p.name
		}
	}
	return b.String(), ""
}
