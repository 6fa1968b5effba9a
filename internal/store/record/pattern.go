package record

import "bytes"

// Pattern matches texts in which * stands for any characters, without regard to the case of ASCII letters, and of those
// alone.
type Pattern struct {
	parts [][]byte
}

// NewPattern reads a pattern.
func NewPattern(pattern string) Pattern {
	return Pattern{bytes.Split([]byte(lowerASCII(pattern)), []byte("*"))}
}

// Match reports whether a whole text matches.
func (p Pattern) Match(text string) bool {
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
	for i := range len(text) {
		b := text[i]
		if 'A' <= b && b <= 'Z' {
			b += 'a' - 'A'
		}
		to = append(to, b)
	}
	return to
}
