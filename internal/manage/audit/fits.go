package audit

import (
	"encoding/json"
	"strings"

	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
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

// like compares with a pattern; an empty one is any text.
func like(pattern, value string) bool {
	return pattern == "" || record.NewPattern(pattern).Match(value)
}
