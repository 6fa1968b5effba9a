package rule

import (
	"unicode"
	"unicode/utf8"
)

// Texts are compared letter by letter without regard to case, by the same simple folding as strings.EqualFold: texts
// that are equal so begin, end and contain the same.

// Fold appends a text in the form in which it is equal to every text that strings.EqualFold takes for the same.
func Fold(b []byte, text string) []byte {
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c >= utf8.RuneSelf:
			for _, r := range text[i:] {
				b = utf8.AppendRune(b, foldRune(r))
			}
			return b
		case c >= 'a' && c <= 'z':
			c -= 'a' - 'A'
		}
		b = append(b, c)
	}
	return b
}

// FoldString is Fold as a string.
func FoldString(text string) string { return string(Fold(nil, text)) }

// foldRune is the smallest of all runes that are the same without regard to case.
func foldRune(r rune) rune {
	if r < utf8.RuneSelf {
		if r >= 'a' && r <= 'z' {
			r -= 'a' - 'A'
		}
		return r
	}
	least := r
	for next := unicode.SimpleFold(r); next != r; next = unicode.SimpleFold(next) {
		least = min(least, next)
	}
	return least
}

func startsFold(have, want string) bool {
	for len(want) > 0 {
		if len(have) == 0 {
			return false
		}
		a, n := utf8.DecodeRuneInString(have)
		b, m := utf8.DecodeRuneInString(want)
		if a != b && foldRune(a) != foldRune(b) {
			return false
		}
		have, want = have[n:], want[m:]
	}
	return true
}

func endsFold(have, want string) bool {
	for len(want) > 0 {
		if len(have) == 0 {
			return false
		}
		a, n := utf8.DecodeLastRuneInString(have)
		b, m := utf8.DecodeLastRuneInString(want)
		if a != b && foldRune(a) != foldRune(b) {
			return false
		}
		have, want = have[:len(have)-n], want[:len(want)-m]
	}
	return true
}

func containsFold(have, want string) bool {
	for {
		if startsFold(have, want) {
			return true
		}
		if len(have) == 0 {
			return false
		}
		_, n := utf8.DecodeRuneInString(have)
		have = have[n:]
	}
}
