package audit

import (
	"encoding/json"
	"strings"

	"tollgate.example/key/internal/store"
)

// Fits reports whether a line fulfils a filter, as the store decides it.
func Fits(f *store.AuditFilter, l *Line) bool {
	for _, one := range [][2]string{{f.Kind, l.Kind}, {f.Object, l.Object}, {f.Result, l.Result}} {
		if one[0] != "" && one[0] != one[1] {
			return false
		}
	}
	if f.Since != "" && l.At < f.Since || f.Until != "" && l.At >= f.Until || f.After != 0 && l.Number <= f.After ||
		!like(f.Who, l.Who) || !like(f.Name, l.Name) {
		return false
	}
	if f.Text == "" {
		return true
	}
	text, err := json.Marshal(l)
	return err == nil && strings.Contains(strings.ToLower(string(text)), strings.ToLower(f.Text))
}

// like compares with a pattern, in which * stands for any characters, without regard to case.
func like(pattern, value string) bool {
	if pattern == "" {
		return true
	}
	parts := strings.Split(strings.ToLower(pattern), "*")
	value = strings.ToLower(value)
	if len(parts) == 1 {
		return value == parts[0]
	}
	value, begins := strings.CutPrefix(value, parts[0])
	if !begins {
		return false
	}
	for _, part := range parts[1 : len(parts)-1] {
		at := strings.Index(value, part)
		if at < 0 {
			return false
		}
		value = value[at+len(part):]
	}
	return strings.HasSuffix(value, parts[len(parts)-1])
}
