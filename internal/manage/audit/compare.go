package audit

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/base/seal"
)

const (
	// maxChanges and maxValue bound what is said of one change, maxForm what is kept of an object.
	maxChanges = 60
	maxValue   = 200
	maxForm    = 32 << 10
)

// mask stands in the place of a secret.
const mask = "(secret)"

// Compare makes of two forms of an object what changed in it, and both as JSON, with secrets masked. Either may be nil.
// Sealed secrets are told from each other, and shown neither sealed nor in clear.
func Compare(before, after any) (changes []Change, old, fresh json.RawMessage) {
	from, to := plain(before), plain(after)
	old, fresh = form(from), form(to)
	flatFrom, flatTo := map[string]string{}, map[string]string{}
	flatten("", from, flatFrom)
	flatten("", to, flatTo)
	var fields []string
	for field := range flatFrom {
		fields = append(fields, field)
	}
	for field := range flatTo {
		if _, both := flatFrom[field]; !both {
			fields = append(fields, field)
		}
	}
	slices.Sort(fields)
	for _, field := range fields {
		if flatFrom[field] == flatTo[field] || field == "id" {
			continue
		}
		if len(changes) == maxChanges {
			changes = append(changes, Change{Field: "…", After: "more"})
			break
		}
		changes = append(changes, Change{field, shown(flatFrom[field]), shown(flatTo[field])})
	}
	return changes, old, fresh
}

func shown(value string) string {
	if seal.Sealed(value) {
		return mask
	}
	if runes := []rune(value); len(runes) > maxValue {
		return string(runes[:maxValue-1]) + "…"
	}
	return value
}

// plain is a value as JSON has it, without what is empty.
func plain(v any) any {
	if v == nil {
		return nil
	}
	text, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	var out any
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	if decoder.Decode(&out) != nil {
		return nil
	}
	return out
}

// form is a value as it is kept, with secrets masked; nothing if it is too large.
func form(v any) json.RawMessage {
	if v == nil {
		return nil
	}
	text, err := json.Marshal(masked(v))
	if err != nil || len(text) > maxForm {
		return nil
	}
	return text
}

func masked(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for key, value := range v {
			if value = masked(value); !empty(value) {
				out[key] = value
			}
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, value := range v {
			out[i] = masked(value)
		}
		return out
	case string:
		if seal.Sealed(v) {
			return mask
		}
	}
	return v
}

func empty(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case string:
		return v == ""
	case bool:
		return !v
	case []any:
		return len(v) == 0
	case map[string]any:
		return len(v) == 0
	case json.Number:
		return v == "0"
	}
	return false
}

// flatten writes each value under its path. Lists of plain values are one value.
func flatten(path string, v any, out map[string]string) {
	switch v := v.(type) {
	case map[string]any:
		for key, value := range v {
			flatten(strings.TrimPrefix(path+"."+key, "."), value, out)
		}
	case []any:
		var texts []string
		for i, value := range v {
			switch value.(type) {
			case map[string]any, []any:
				flatten(fmt.Sprintf("%s[%d]", path, i+1), value, out)
			default:
				texts = append(texts, fmt.Sprint(value))
			}
		}
		if len(texts) > 0 {
			out[path] = strings.Join(texts, ", ")
		}
	default:
		if !empty(v) {
			out[path] = fmt.Sprint(v)
		}
	}
}
