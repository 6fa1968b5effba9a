package rule

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
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
		return nil, &Error{maxLength, fmt.Sprintf("the condition has %d octets, at most %d are allowed", len(text),
			maxLength), "Use a group table, or several policies."}
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
