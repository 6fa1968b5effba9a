// Package command is the language of command lists: patterns over the commands that people type on network gear,
// written as they type them. A list is ordered, the first line that fits decides. It also finds lines that can never
// decide.
package command

import (
	"fmt"
	"strings"
)

// Bounds of patterns and commands.
const (
	maxPattern = 400
	maxWords   = 64
	// MaxCommand is the length to which a command is looked at; nothing longer can be typed on gear.
	MaxCommand = 4096
)

// CarriageReturn is how gear writes the end of a command that takes no further argument.
const CarriageReturn = "<cr>"

// Error is a fault in a pattern.
type Error struct {
	// Column is 1-based.
	Column          int
	Message, Remedy string
}

func (e *Error) Error() string { return fmt.Sprintf("column %d: %s", e.Column, e.Message) }

// Pattern is a parsed pattern.
type Pattern struct {
	words []word
	// rest takes whatever follows, or nothing.
	rest bool
	text string
}

// word is one word of a pattern: any of its alternatives.
type word []glob

// glob is literal text between stars: no star in the front or the back of it means that the word begins or ends there.
type glob []string

// String is the pattern in its one form: single spaces, and no <cr>.
func (p *Pattern) String() string { return p.text }

// Parse reads a pattern: words separated by spaces; | between alternatives of a word; * within a word for any
// characters, alone for any word, and alone at the end for any words or none; "..." for characters that would mean
// something; <cr> at the end for nothing more, which is also what no * means.
func Parse(text string) (*Pattern, error) {
	if len(text) > maxPattern {
		return nil, &Error{maxPattern, fmt.Sprintf("a pattern has at most %d octets", maxPattern), "Shorten it."}
	}
	raw, err := split(text)
	if err != nil {
		return nil, err
	}
	if n := len(raw); n > 0 && strings.EqualFold(raw[n-1].text, CarriageReturn) {
		raw = raw[:n-1]
		if len(raw) == 0 || raw[len(raw)-1].text == "*" {
			return nil, &Error{1, "<cr> says that nothing follows, so a command has to stand before it",
				"Write for instance: show version <cr>."}
		}
	}
	if len(raw) == 0 {
		return nil, &Error{1, "the pattern is empty", "Write a command, or * for any."}
	}
	if len(raw) > maxWords {
		return nil, &Error{raw[maxWords].column, fmt.Sprintf("a pattern has at most %d words", maxWords), "Shorten it."}
	}
	p := &Pattern{}
	var out []string
	for i, w := range raw {
		out = append(out, w.text)
		if strings.EqualFold(w.text, CarriageReturn) {
			return nil, &Error{w.column, "<cr> stands at the end of a command only", "Remove it here."}
		}
		if w.text == "*" && i == len(raw)-1 {
			p.rest = true
			break
		}
		parsed, err := parseWord(w)
		if err != nil {
			return nil, err
		}
		p.words = append(p.words, parsed)
	}
	p.text = strings.Join(out, " ")
	return p, nil
}

type rawWord struct {
	text   string
	column int
}

// split takes a pattern apart at spaces outside of quotes.
func split(text string) ([]rawWord, error) {
	var out []rawWord
	begin, quoted := -1, false
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '"':
			quoted = !quoted
			if begin < 0 {
				begin = i
			}
		case c == '\t' || c == ' ' && !quoted:
			if quoted {
				return nil, &Error{i + 1, "a tab within quotes", "Words hold no tabs."}
			}
			if begin >= 0 {
				out = append(out, rawWord{text[begin:i], begin + 1})
				begin = -1
			}
		case c == ' ':
			return nil, &Error{i + 1, "a space within quotes: a word of a command never holds one",
				"Write the words apart; quotes are for *, | and quotation marks of a word."}
		case c < 0x20 || c == 0x7f:
			return nil, &Error{i + 1, "a control character", "Remove it."}
		case begin < 0:
			begin = i
		}
	}
	if quoted {
		return nil, &Error{begin + 1, "the quotation mark is not closed", "Close it."}
	}
	if begin >= 0 {
		out = append(out, rawWord{text[begin:], begin + 1})
	}
	return out, nil
}

func parseWord(w rawWord) (word, error) {
	if w.text == "|" { // the pipe, as typed between two commands
		return word{glob{"|"}}, nil
	}
	var out word
	current, piece, quoted, filled := glob{}, []byte{}, false, false
	end := func(column int) error {
		if !filled {
			return &Error{column, "an alternative is empty", "Write something on both sides of |, or put it in " +
				"quotes if it is part of the command."}
		}
		out = append(out, append(current, string(piece)))
		current, piece, filled = glob{}, []byte{}, false
		return nil
	}
	for i := 0; i < len(w.text); i++ {
		c := w.text[i]
		switch {
		case c == '"':
			quoted = !quoted
		case c == '|' && !quoted:
			if err := end(w.column + i); err != nil {
				return nil, err
			}
		case c == '*' && !quoted:
			if filled = true; len(current) == 0 || len(piece) > 0 || i == 0 || w.text[i-1] != '*' { // ** is *
				current, piece = append(current, string(piece)), []byte{}
			}
		default:
			piece, filled = append(piece, lower(c)), true
		}
	}
	if err := end(w.column + len(w.text) - 1); err != nil {
		return nil, err
	}
	return out, nil
}

func lower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// Words takes a typed command apart, without the <cr> that some gear puts behind it.
func Words(typed string) []string {
	words := fields(typed[:min(len(typed), MaxCommand)])
	if n := len(words); n > 0 && strings.EqualFold(words[n-1], CarriageReturn) {
		words = words[:n-1]
	}
	return words
}

// fields are the words between spaces; only ASCII ones are spaces, as in patterns.
func fields(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\t' })
}

// Fits reports whether a command fits the pattern. Case does not count.
func (p *Pattern) Fits(words []string) bool {
	if len(words) < len(p.words) || len(words) > len(p.words) && !p.rest {
		return false
	}
	for i, w := range p.words {
		if !w.fits(words[i]) {
			return false
		}
	}
	return true
}

func (w word) fits(text string) bool {
	for _, g := range w {
		if g.fits(text) {
			return true
		}
	}
	return false
}

func (g glob) fits(text string) bool {
	first, last := g[0], g[len(g)-1]
	if len(g) == 1 {
		return len(text) == len(first) && begins(text, first)
	}
	if len(text) < len(first)+len(last) || !begins(text, first) || !begins(text[len(text)-len(last):], last) {
		return false
	}
	text = text[len(first) : len(text)-len(last)]
	for _, middle := range g[1 : len(g)-1] {
		at := 0
		for at+len(middle) <= len(text) && !begins(text[at:], middle) {
			at++
		}
		if at+len(middle) > len(text) {
			return false
		}
		text = text[at+len(middle):]
	}
	return true
}

// begins reports whether a text begins with a piece, which is in lower case.
func begins(text, piece string) bool {
	if len(text) < len(piece) {
		return false
	}
	for i := range len(piece) {
		if lower(text[i]) != piece[i] {
			return false
		}
	}
	return true
}
