package record

import "strings"

// Pattern matches texts in which * stands for any characters, without regard to the case of ASCII letters, and of those
// alone.
type Pattern struct {
	parts []string
}

// NewPattern reads a pattern.
func NewPattern(pattern string) Pattern { return Pattern{strings.Split(lowerASCII(pattern), "*")} }

// Match reports whether a whole text matches.
func (p Pattern) Match(text string) bool { return p.matchLower(lowerASCII(text)) }

// matchLower is Match for a text in lower case.
func (p Pattern) matchLower(text string) bool {
	if len(p.parts) == 1 {
		return p.parts[0] == text
	}
	if !strings.HasPrefix(text, p.parts[0]) {
		return false
	}
	text = text[len(p.parts[0]):]
	for _, part := range p.parts[1 : len(p.parts)-1] {
		at := strings.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}
	return strings.HasSuffix(text, p.parts[len(p.parts)-1])
}

// prefix is what every text that matches begins with, in lower case; exact says that it is all of it.
func (p Pattern) prefix() (prefix string, exact bool) { return p.parts[0], len(p.parts) == 1 }
