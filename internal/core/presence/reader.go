package presence

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// Reader reads lines of one form: text as it is written, with fields in braces in the place of what changes. It is
// looked for anywhere in a line, and each field ends where the text behind it begins, or at a space.
type Reader struct {
	kind  Kind
	parts []part
}

// part is a field with the text before it; the last has no field.
type part struct {
	text  string
	field string
	last  bool
}

// Fields are what a reader may find. An empty field stands for anything.
var Fields = []string{"who", "address", "mac", "host", "ports"}

const (
	maxPattern = 500
	// maxLine is how much of a line is looked at.
	maxLine = 2 << 10
	// fixed is how many letters and digits of a pattern have to be text, so that it does not fit everything.
	fixed = 4
)

// CompileReader reads a pattern.
func CompileReader(pattern string, kind Kind) (*Reader, error) {
	r := &Reader{kind: kind}
	if len(pattern) > maxPattern {
		return nil, fmt.Errorf("it is longer than %d characters", maxPattern)
	}
	rest, seen, letters := strings.Join(strings.Fields(pattern), " "), map[string]bool{}, 0
	for {
		before, after, ok := strings.Cut(rest, "{")
		letters += len(strings.Map(func(c rune) rune {
			if c == ' ' || c == ',' || c == ';' || c == ':' {
				return -1
			}
			return c
		}, before))
		if !ok {
			r.parts = append(r.parts, part{text: before, last: true})
			break
		}
		field, behind, closed := strings.Cut(after, "}")
		if !closed {
			return nil, errors.New("a { is not closed")
		}
		if field != "" && !known(field) {
			return nil, fmt.Errorf("there is no field {%s}: use {%s}, or {} for anything", field,
				strings.Join(Fields, "}, {"))
		}
		if field != "" && seen[field] {
			return nil, fmt.Errorf("{%s} stands there twice", field)
		}
		if len(r.parts) > 0 && before == "" {
			return nil, errors.New("two fields stand side by side: nobody could tell where one ends")
		}
		seen[field] = true
		r.parts = append(r.parts, part{text: before, field: field})
		rest = behind
	}
	switch {
	case letters < fixed:
		return nil, fmt.Errorf("it would fit nearly every line: at least %d letters have to be text", fixed)
	case (kind == SignedIn || kind == Still) && (!seen["who"] || !seen["address"] && !seen["mac"]):
		return nil, errors.New("it needs {who}, and {address} or {mac}")
	case kind == SignedOut && !seen["who"] && !seen["address"]:
		return nil, errors.New("it needs {who} or {address}")
	case (kind == Leased || kind == Released) && (!seen["mac"] || !seen["address"]):
		return nil, errors.New("it needs {mac} and {address}")
	case seen["ports"] && !seen["address"]:
		return nil, errors.New("{ports} needs {address}")
	}
	return r, (&Sighting{Kind: kind}).checkKind()
}

func known(field string) bool {
	for _, f := range Fields {
		if f == field {
			return true
		}
	}
	return false
}

// checkKind tells that the kind is none.
func (s *Sighting) checkKind() error {
	for _, k := range Kinds {
		if k == s.Kind {
			return nil
		}
	}
	return ErrBadKind
}

// Read reads a line; ok is false if it has another form. The error says which field has a value that it cannot have.
func (r *Reader) Read(line string) (s Sighting, ok bool, err error) {
	if len(line) > maxLine {
		line = line[:maxLine]
	}
	line = strings.Join(strings.Fields(line), " ")
	values, ok := r.find(line)
	if !ok {
		return Sighting{}, false, nil
	}
	s.Kind = r.kind
	for field, value := range values {
		switch field {
		case "who":
			s.Who = value
		case "host":
			s.Host = value
		case "address":
			if s.Address, err = netip.ParseAddr(strings.Trim(value, "[]")); err != nil {
				return s, true, fmt.Errorf("{address} is %q, which is none", value)
			}
			s.Address = s.Address.Unmap().WithZone("")
		case "mac":
			if s.MAC = ParseMAC(value); s.MAC == 0 {
				return s, true, fmt.Errorf("{mac} is %q, which is none", value)
			}
		case "ports":
			if s.Ports, err = ParsePorts(value); err != nil {
				return s, true, fmt.Errorf("{ports}: %w", err)
			}
		}
	}
	return s, true, nil
}

// find finds the fields. Text before the first field may stand anywhere, so each place of it is tried; a form that
// begins with a field begins with a word.
func (r *Reader) find(line string) (map[string]string, bool) {
	first := r.parts[0].text
	for from := 0; from <= len(line); {
		at := strings.Index(line[from:], first)
		if at < 0 {
			return nil, false
		}
		if values, ok := r.findAt(line[from+at+len(first):]); ok {
			return values, true
		}
		from += at + 1
		if first == "" {
			space := strings.IndexByte(line[from-1:], ' ')
			if space < 0 {
				return nil, false
			}
			from += space
		}
	}
	return nil, false
}

func (r *Reader) findAt(rest string) (map[string]string, bool) {
	values := map[string]string{}
	for i := range r.parts[:len(r.parts)-1] {
		next := &r.parts[i+1]
		end := len(rest)
		if next.text != "" {
			if end = strings.Index(rest, next.text); end < 0 {
				return nil, false
			}
		} else if space := strings.IndexByte(rest, ' '); space >= 0 {
			end = space
		}
		value := rest[:end]
		if field := r.parts[i].field; field != "" {
			if value == "" || strings.ContainsRune(value, ' ') && field != "host" {
				return nil, false
			}
			values[field] = value
		}
		rest = rest[min(len(rest), end+len(next.text)):]
	}
	return values, true
}

// ParsePorts reads a block of ports: two numbers with a hyphen between, or one.
func ParsePorts(text string) (Ports, error) {
	a, b, two := strings.Cut(text, "-")
	if !two {
		b = a
	}
	first, err := strconv.ParseUint(strings.TrimSpace(a), 10, 16)
	last, err2 := strconv.ParseUint(strings.TrimSpace(b), 10, 16)
	if err != nil || err2 != nil || first == 0 || last < first {
		return Ports{}, fmt.Errorf("%q is not a block of ports, such as 20000-20999", text)
	}
	return Ports{uint16(first), uint16(last)}, nil
}
