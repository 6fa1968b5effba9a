package rule

import (
	"encoding/hex"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// add checks one value against the type of the field.
func (c *comparison) add(t token, calendars Calendars) *Error {
	value := t.text
	switch {
	case c.op == Matches:
		re, err := regexp.Compile("(?i)" + value)
		if err != nil {
			return &Error{t.col, "the pattern cannot be read: " + strings.TrimPrefix(err.Error(),
				"error parsing regexp: "), "Patterns follow RE2."}
		}
		c.patterns = append(c.patterns, re)
	case c.field.Type == Hours:
		if calendars == nil {
			break
		}
		found := calendars(value)
		if found == nil {
			return &Error{t.col, fmt.Sprintf("there is no calendar %q", value),
				"Add it under Calendars, or choose one that is there."}
		}
		c.hours = append(c.hours, found)
	case c.field.Type == Age:
		if age, ok := parseAge(value); !ok || age <= 0 {
			return &Error{t.col, fmt.Sprintf("%q is not a duration", value), "Write for instance 30m, 8h or 2d."}
		}
	case c.op == AtLeast:
		if _, ok := parseNumber(value); !ok {
			return &Error{t.col, fmt.Sprintf("%q is not a number", value), "Write for instance 3 or 1.2."}
		}
	case c.field.Type == Address:
		prefix, ok := parseAddress(value)
		if !ok {
			return &Error{t.col, fmt.Sprintf("%q is not an address", value),
				"Write for instance 192.0.2.7 or 2001:db8::/32."}
		}
		if c.op != Within && !prefix.IsSingleIP() {
			return &Error{t.col, fmt.Sprintf("%q is a prefix", value), "Use within for prefixes."}
		}
		value = prefix.String()
		if c.op != Within {
			value = prefix.Addr().String()
		}
	case c.field.Type == MAC && (c.op == Starts || c.op == Ends || c.op == Contains):
		value = partOfMAC(value)
	case c.field.Type == MAC:
		mac, ok := facts.FormatMAC(value)
		if !ok {
			return &Error{t.col, fmt.Sprintf("%q is not a MAC address", value),
				"Write for instance 02-00-5E-10-7A-31, or use starts for a prefix."}
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

// partOfMAC writes some octets of a MAC address as facts have them; what is not whole octets stays as typed.
func partOfMAC(text string) string {
	digits := strings.NewReplacer(":", "", "-", "", ".", "").Replace(text)
	octets, err := hex.DecodeString(digits)
	if err != nil || len(octets) == 0 || len(octets) > 6 {
		return strings.ToUpper(text)
	}
	return strings.ToUpper(strings.ReplaceAll(fmt.Sprintf("% x", octets), " ", "-"))
}

// parseNumber reads a decimal number of at most 15 digits, after the word TLS too. It does not allocate.
func parseNumber(text string) (float64, bool) {
	text = strings.TrimPrefix(text, "TLS ")
	negative := strings.HasPrefix(text, "-")
	if negative {
		text = text[1:]
	}
	value, unit, digits, point := 0.0, 1.0, 0, false
	for i := range len(text) {
		switch c := text[i]; {
		case c >= '0' && c <= '9' && digits < 15:
			digits++
			value = 10*value + float64(c-'0')
			if point {
				unit *= 10
			}
		case c == '.' && !point && digits > 0:
			point = true
		default:
			return 0, false
		}
	}
	if negative {
		value = -value
	}
	return value / unit, digits > 0
}
