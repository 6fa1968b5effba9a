// Package document writes a whole configuration as one readable YAML text, and reads it back. Objects are named, not
// numbered: identifiers stay out of it, and reading a text over a configuration finds them again by name. Written, read
// and written again, a configuration gives the same octets.
package document

import (
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"tollgate.example/key/internal/core/config"
)

// Form is the number of the form that this package writes and reads.
const Form = 1

const head = `# Configuration of Tollgate Key. Lists that are left out stay as they are when this is applied; what is left out of a list
# is removed. Comments are not kept: write them as note.
`

// tail ends a document, so that half of one is noticed.
const tail = "...\n"

// kinds are the lists of a configuration in the order of the document; lanes keep their own order.
var kinds = []string{
	"clients",
	"directories",
	"realms",
	"lanes",
	"passes",
	"calendars",
	"pools",
	"remotes",
	"vendors",
	"overrides",
	"expectations",
	"commandLists",
	"feeds",
	"sources",
	"scopes",
	"subscribers",
	"deviceKinds",
	"authorities",
	"certificates",
	"trusts",
}

// Write writes a configuration. Secrets are written sealed, or left out.
func Write(c *config.Config, secrets bool) []byte {
	doc := yaml.MapSlice{{Key: "tollgate", Value: Form}}
	whole := reflect.ValueOf(c).Elem()
	for _, kind := range kinds {
		list := whole.FieldByIndex(fieldOf(whole.Type(), kind).Index)
		objects := make([]any, 0, list.Len())
		for _, at := range order(list, kind != "lanes") {
			objects = append(objects, plain(list.Index(at), secrets))
		}
		doc = append(doc, yaml.MapItem{Key: kind, Value: objects})
	}
	var b strings.Builder
	b.WriteString(head)
	emit(&b, doc, "")
	b.WriteString(tail)
	return []byte(b.String())
}

// order lists the places of a list, by name if it has no order of its own.
func order(list reflect.Value, byName bool) []int {
	out := make([]int, list.Len())
	for i := range out {
		out[i] = i
	}
	if byName {
		name := func(i int) string { return strings.ToLower(list.Index(i).Elem().FieldByName("Name").String()) }
		slices.SortStableFunc(out, func(a, b int) int { return strings.Compare(name(a), name(b)) })
	}
	return out
}

func nameOf(f reflect.StructField) string {
	name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
	return name
}

func fieldOf(t reflect.Type, name string) reflect.StructField {
	for i := range t.NumField() {
		if nameOf(t.Field(i)) == name {
			return t.Field(i)
		}
	}
	panic("document: no list is called " + name)
}

// shown are fields that are written even if they are false.
var shown = map[string]bool{"admitted": true}

// plain turns a value into what is written: structs without identifiers and without what is not set.
func plain(v reflect.Value, secrets bool) any {
	switch {
	case v.Kind() == reflect.Pointer:
		return plain(v.Elem(), secrets)
	case v.Type() == reflect.TypeFor[time.Time]():
		return v.Interface().(time.Time).UTC().Format(time.RFC3339)
	case v.Kind() == reflect.Struct:
		out := yaml.MapSlice{}
		for i := range v.NumField() {
			name := nameOf(v.Type().Field(i))
			field := v.Field(i)
			switch {
			case name == "id" && v.Type() != reflect.TypeFor[config.PickedGroup]() ||
				field.Type() == reflect.TypeFor[config.Secret]() && !secrets:
				continue
			case name == "enabled": // what is not said is on
				if field.Bool() {
					continue
				}
			case !shown[name] && empty(field):
				continue
			}
			out = append(out, yaml.MapItem{Key: name, Value: plain(field, secrets)})
		}
		return out
	case v.Kind() == reflect.Slice:
		out := make([]any, v.Len())
		for i := range out {
			out[i] = plain(v.Index(i), secrets)
		}
		return out
	case v.Kind() == reflect.Map:
		out := yaml.MapSlice{}
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
		for _, key := range keys {
			out = append(out, yaml.MapItem{Key: key.String(), Value: plain(v.MapIndex(key), secrets)})
		}
		return out
	case v.Kind() == reflect.String:
		return v.String()
	}
	return v.Interface()
}

// empty reports whether nothing of a value is set.
func empty(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Slice, reflect.Map:
		return v.Len() == 0
	case reflect.Struct:
		if at, ok := v.Interface().(time.Time); ok {
			return at.IsZero()
		}
		for i := range v.NumField() {
			if !empty(v.Field(i)) {
				return false
			}
		}
		return true
	}
	return v.IsZero()
}
