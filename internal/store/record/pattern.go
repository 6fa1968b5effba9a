package record

import "bytes"

// Pattern matches texts in which * stands for any characters, without regard to the case of ASCII letters, and of those
// alone.
type Pattern struct {
	parts [][]byte
	least int // octets that the parts have together
}

// NewPattern reads a pattern.
func NewPattern(pattern string) Pattern {
	p := Pattern{parts: bytes.Split([]byte(lowerASCII(pattern)), []byte("*"))}
	for _, part := range p.parts {
		p.least += len(part)
	}
	return p
}

// Match reports whether a whole text matches.
func (p Pattern) Match(text string) bool {
	if len(text) < p.least {
		return false
	}
	var space [128]byte
	return p.matchLower(appendLower(space[:0], text))
}

// matchLower is Match for a text in lower case.
func (p Pattern) matchLower(text []byte) bool {
	if len(p.parts) == 1 {
		return bytes.Equal(p.parts[0], text)
	}
	if !bytes.HasPrefix(text, p.parts[0]) {
		return false
	}
	text = text[len(p.parts[0]):]
	for _, part := range p.parts[1 : len(p.parts)-1] {
		at := bytes.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}
	return bytes.HasSuffix(text, p.parts[len(p.parts)-1])
}

// prefix is what every text that matches begins with, in lower case; exact says that it is all of it.
func (p Pattern) prefix() (prefix []byte, exact bool) { return p.parts[0], len(p.parts) == 1 }

// appendLower appends a text with its ASCII letters in lower case.
func appendLower(to []byte, text string) []byte {
	from := len(to)
	to = append(to, text...)
	for i, b := range to[from:] {
		if 'A' <= b && b <= 'Z' {
			to[from+i] = b + 'a' - 'A'
		}
	}
	return to
}
