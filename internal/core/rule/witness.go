package rule

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/facts"
)

// Witness is facts that fulfil what was asked for.
type Witness struct {
	Facts  *facts.Facts
	values []value
}

// build makes the facts. What nothing was asked about stays empty.
func (w *Witness) build(at time.Time) {
	f := &facts.Facts{At: at, Service: facts.Network, Protocol: "radius",
		Person: &facts.Person{Attributes: map[string][]string{}}, ClientTags: map[string]string{}}
	w.Facts = f
	for i := range w.values { // the others go by it
		if w.values[i].subject == "time" {
			f.At = w.values[i].at
		}
	}
	for i := range w.values {
		w.values[i].set(f)
	}
}

func (v *value) text() string {
	if len(v.texts) == 0 {
		return ""
	}
	return v.texts[0]
}

// set makes the facts have the value, as the table of fields says.
func (v *value) set(f *facts.Facts) {
	if field, _ := lookup(v.subject); field != nil {
		field.set(f, v)
	}
}

// nameLike makes a name of a form, keeping what the name already shows.
func nameLike(name, part, text string) string {
	form, _, realm := facts.SplitName(name)
	if part == "name.form" {
		form = text
	} else if realm = text; form == "" || form == "bare" {
		form = "suffix"
	}
	if realm == "" {
		realm = "realm.example"
	}
	if part == "name.realm" && text == "" {
		return "name"
	}
	switch form {
	case "suffix":
		return "name@" + realm
	case "prefix":
		return realm + `\name`
	case "host":
		return "host/name." + realm
	case "bare":
		return "name"
	}
	return ""
}

// Lines describes the facts in words, one for each field that was asked about.
func (w *Witness) Lines() []string {
	out := []string{}
	for i := range w.values {
		v := &w.values[i]
		text := ""
		switch {
		case v.subject == "time":
			text = v.at.Format("Mon 2006-01-02 15:04 MST")
		case v.known:
			text = v.age.String()
		case v.address != netip.Addr{}:
			text = v.address.String()
		default:
			text = strings.Join(v.texts, ", ")
		}
		if text == "" {
			text = "none"
		}
		out = append(out, v.subject+" "+text)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
