package main

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// ink begins a colour of ours on its way to the terminal. It is an octet that no text may hold, so that nothing that
// comes from the service, and through it from the network, can be taken for one.
const ink = "\xff"

const escape = "\x1b"

// terminal is where everything for people is printed. Names and texts come from devices: what would move the cursor,
// change the terminal or turn the direction of writing comes out as a replacement character.
type terminal struct{ out io.Writer }

// Write implements io.Writer.
func (t *terminal) Write(text []byte) (int, error) {
	var b bytes.Buffer
	for rest := text; len(rest) > 0; {
		if rest[0] == ink[0] {
			n := bytes.IndexByte(rest, 'm')
			if code := rest[1 : 1+max(0, n-1)]; n > 0 && isColour(code) {
				b.WriteString(escape)
				b.Write(rest[1 : n+1])
				rest = rest[n+1:]
				continue
			}
		}
		r, size := utf8.DecodeRune(rest)
		if r != '\n' && harmful(r) {
			r = utf8.RuneError
		}
		b.WriteRune(r)
		rest = rest[size:]
	}
	if _, err := t.out.Write(b.Bytes()); err != nil {
		return 0, err
	}
	return len(text), nil
}

// isColour reports whether a sequence selects how letters look, and does nothing else: [ and digits.
func isColour(code []byte) bool {
	return len(code) > 1 && len(code) < 6 && code[0] == '[' && len(bytes.Trim(code[1:], "0123456789;")) == 0
}

// harmful are characters that a terminal acts on instead of showing them: the controls of ASCII and of Unicode, those
// that turn the direction of writing, and separators of lines.
func harmful(r rune) bool {
	switch {
	case r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r <= 0x9f:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0x2028,
		r == 0x2029, r == 0xfeff:
		return true
	}
	return false
}

// oneLine makes a text fit into a line of a table, whatever it holds.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' {
			return ' '
		}
		if harmful(r) {
			return utf8.RuneError
		}
		return r
	}, text)
}

// escaped writes what is harmful in JSON as \u, so that the value stays the same.
func escaped(text []byte) []byte {
	var b bytes.Buffer
	for _, r := range string(text) {
		if r != '\n' && harmful(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.Bytes()
}
