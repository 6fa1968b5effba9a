package config

import (
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/calendar"
)

// Change is one difference of meaning between two configurations.
type Change struct {
	Kind   string `json:"kind"`
	Object string `json:"object"`
	ID     string `json:"id"`
	// What is added, removed, changed or moved.
	What string `json:"what"`
	// Lines say the change in words, one line each; secrets show only that they changed.
	Lines []string `json:"lines"`
	// Parts are the changes of the policies of a lane.
	Parts []Change `json:"parts"`
}

// Diff lists what has to be done to come from one configuration to the other. Objects are matched by ID.
func Diff(from, to *Config) []Change {
	out, _ := DiffUpTo(from, to, math.MaxInt)
	return out
}

// DiffUpTo lists up to so many changes, and tells how many there are beyond them.
func DiffUpTo(from, to *Config, limit int) (list []Change, more int) {
	d := &diff{left: limit, out: []Change{}}
	diffList(d, "client", from.Clients, to.Clients, false)
	diffList(d, "directory", from.Directories, to.Directories, false)
	diffList(d, "realm", from.Realms, to.Realms, false)
	diffList(d, "lane", from.Lanes, to.Lanes, true)
	diffList(d, "pass", from.Passes, to.Passes, false)
	diffList(d, "authority", from.Authorities, to.Authorities, false)
	diffList(d, "certificate", from.Certificates, to.Certificates, false)
	diffList(d, "trust", from.Trusts, to.Trusts, false)
	diffList(d, "calendar", from.Calendars, to.Calendars, false)
	diffList(d, "pool", from.Pools, to.Pools, false)
	diffList(d, "remote", from.Remotes, to.Remotes, false)
	diffList(d, "vendor", from.Vendors, to.Vendors, false)
	diffList(d, "override", from.Overrides, to.Overrides, false)
	diffList(d, "expectation", from.Expectations, to.Expectations, false)
	diffList(d, "command-list", from.CommandLists, to.CommandLists, false)
	diffList(d, "feed", from.Feeds, to.Feeds, false)
	diffList(d, "source", from.Sources, to.Sources, false)
	diffList(d, "scope", from.Scopes, to.Scopes, false)
	diffList(d, "subscriber", from.Subscribers, to.Subscribers, false)
	diffList(d, "device-kind", from.DeviceKinds, to.DeviceKinds, false)
	return d.out, d.more
}

// diff is a list of changes, and how many more it takes.
type diff struct {
	out        []Change
	left, more int
}

// add adds a change, whose parts are only asked for if it is listed.
func (d *diff) add(kind, object, id, what string, told func() (lines []string, parts []Change)) {
	if d.left == 0 {
		d.more++
		return
	}
	d.left--
	lines, parts := told()
	d.out = append(d.out, Change{kind, object, id, what, lines, parts})
}

func diffList[T any, P Object[T]](d *diff, kind string, from, to []*T, ordered bool) {
	whole := to
	first, last := differ(from, to)
	from, to = from[first:len(from)-last], to[first:len(to)-last]
	old := make(map[string]int, len(from))
	for i := range from {
		old[P(from[i]).Ident()] = i
	}
	kept := make(map[string]int, len(to))
	for i := range to {
		p := P(to[i])
		kept[p.Ident()] = i
		at, was := old[p.Ident()]
		switch {
		case !was:
			d.add(kind, p.Label(), p.Ident(), "added", func() ([]string, []Change) {
				lines := describe(p)
				if ordered {
					lines = append(lines, fmt.Sprintf("place %d of %d", first+i+1, len(whole)))
				}
				return lines, nil
			})
		case from[at] == to[i] || reflect.DeepEqual(from[at], to[i]): // most; writing them out would take longer
		case d.left == 0 || len(compare(from[at], to[i])) > 0:
			d.add(kind, p.Label(), p.Ident(), "changed", func() ([]string, []Change) {
				return compare(from[at], to[i]), parts(from[at], to[i])
			})
		}
	}
	for i := range from {
		p := P(from[i])
		if _, still := kept[p.Ident()]; !still {
			d.add(kind, p.Label(), p.Ident(), "removed", func() ([]string, []Change) { return []string{}, nil })
		}
	}
	if ordered {
		moved[T, P](d, kind, from, to, whole[:first])
	}
}

// maxParts bounds the changed policies of one lane that are listed.
const maxParts = 1000

// parts are the changes of the policies of a lane, nil for other objects.
func parts(from, to any) []Change {
	before, ok := from.(*Lane)
	if !ok {
		return nil
	}
	d := &diff{left: maxParts}
	diffList(d, "policy", before.Policies, to.(*Lane).Policies, true)
	return d.out
}

// moved reports objects of an ordered list that are in both but no longer in the same order. It names the fewest
// objects that have to be moved: those outside a longest run that kept its order. ahead are those before them, which
// stayed where they are.
func moved[T any, P Object[T]](d *diff, kind string, from, to, ahead []*T) {
	place := map[string]int{}
	for i := range from {
		place[P(from[i]).Ident()] = i
	}
	var common, seq []int
	for i := range to {
		if at, ok := place[P(to[i]).Ident()]; ok {
			common, seq = append(common, i), append(seq, at)
		}
	}
	stay := longestIncreasing(seq)
	for k, i := range common {
		if stay[k] {
			continue
		}
		p := P(to[i])
		where := "now first"
		if i > 0 {
			where = fmt.Sprintf("now after %q", P(to[i-1]).Label())
		} else if len(ahead) > 0 {
			where = fmt.Sprintf("now after %q", P(ahead[len(ahead)-1]).Label())
		}
		d.add(kind, p.Label(), p.Ident(), "moved", func() ([]string, []Change) { return []string{where}, nil })
	}
}

// longestIncreasing marks the members of one longest increasing subsequence.
func longestIncreasing(seq []int) []bool {
	before := make([]int, len(seq))
	var tails []int // indexes into seq of the smallest end of each length
	for i, v := range seq {
		n, _ := slices.BinarySearchFunc(tails, v, func(at, want int) int { return seq[at] - want })
		before[i] = -1
		if n > 0 {
			before[i] = tails[n-1]
		}
		if n == len(tails) {
			tails = append(tails, i)
		} else {
			tails[n] = i
		}
	}
	mark := make([]bool, len(seq))
	if len(tails) > 0 {
		for i := tails[len(tails)-1]; i >= 0; i = before[i] {
			mark[i] = true
		}
	}
	return mark
}

// describe lists the set fields of a new object.
func describe[T any, P Object[T]](p P) []string {
	var empty T
	P(&empty).Identify(p.Ident())
	return compare(&empty, (*T)(p))
}

// compare lists the fields in which two objects of one kind differ.
func compare[T any](from, to *T) (lines []string) {
	lines = []string{}
	a, b := reflect.ValueOf(from).Elem(), reflect.ValueOf(to).Elem()
	for i := range a.NumField() {
		field := a.Type().Field(i)
		name := strings.Split(field.Tag.Get("json"), ",")[0]
		if name == "id" {
			continue
		}
		if policies, ok := a.Field(i).Interface().([]*Policy); ok {
			d := &diff{left: maxParts}
			diffList(d, "policy", policies, b.Field(i).Interface().([]*Policy), true)
			if d.more > 0 {
				defer func() { lines = append(lines, fmt.Sprintf("and %d more changes of policies", d.more)) }()
			}
			for _, change := range d.out {
				line := fmt.Sprintf("policy %q %s", change.Object, change.What)
				if len(change.Lines) > 0 {
					line += ": " + strings.Join(change.Lines, "; ")
				}
				lines = append(lines, line)
			}
			continue
		}
		x, y := show(a.Field(i).Interface()), show(b.Field(i).Interface())
		if secret, ok := b.Field(i).Interface().(Secret); ok {
			if secret != a.Field(i).Interface().(Secret) {
				lines = append(lines, label(name)+" "+map[bool]string{true: "changed", false: "removed"}[secret.Set()])
			}
			continue
		}
		switch {
		case x == y:
		case x == "":
			lines = append(lines, label(name)+" "+y)
		case y == "":
			lines = append(lines, label(name)+" "+x+" -> nothing")
		default:
			lines = append(lines, label(name)+" "+x+" -> "+y)
		}
	}
	return lines
}

// label turns a JSON field name into words.
func label(name string) string {
	if name == "vlan" || name == "tls" || name == "ca" {
		return strings.ToUpper(name)
	}
	var out strings.Builder
	if rest, ours := strings.CutPrefix(name, "tacacs"); ours {
		out.WriteString("TACACS+")
		name = rest
	}
	for _, r := range name {
		if r >= 'A' && r <= 'Z' {
			out.WriteByte(' ')
			r += 'a' - 'A'
		}
		out.WriteRune(r)
	}
	return out.String()
}

// show writes a field's value for people.
func show(value any) string {
	switch v := value.(type) {
	case string:
		if strings.HasPrefix(v, "-----BEGIN") {
			return showPEM(v)
		}
		return v
	case Secret:
		return ""
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v]
	case int:
		if v == 0 {
			return ""
		}
		return fmt.Sprint(v)
	case time.Time:
		if v.IsZero() {
			return ""
		}
		return v.UTC().Format("2006-01-02 15:04 MST")
	case []string:
		return strings.Join(v, ", ")
	case map[string]string:
		keys := make([]string, 0, len(v))
		for key, value := range v {
			keys = append(keys, key+"="+value)
		}
		slices.Sort(keys)
		return strings.Join(keys, ", ")
	case []Form:
		return join(v, Form.String)
	case []Lookup:
		return join(v, func(l Lookup) string {
			if l.Unreachable == Next {
				return l.Store + " (next if unreachable)"
			}
			if l.Unreachable == Silent {
				return l.Store + " (no answer if unreachable)"
			}
			return l.Store
		})
	case []PickedGroup:
		return join(v, func(g PickedGroup) string { return g.Name + " (" + g.ID + ")" })
	case []GroupRow:
		return join(v, func(r GroupRow) string { return r.Group + " -> " + r.Pass })
	case []calendar.Span:
		return join(v, calendar.Span.String)
	case []calendar.Holiday:
		return join(v, calendar.Holiday.String)
	case []VendorAttribute:
		return join(v, VendorAttribute.String)
	case []Argument:
		return join(v, Argument.String)
	case []CommandLine:
		return join(v, CommandLine.String)
	case []Attribute:
		return join(v, func(a Attribute) string { return a.Name + "=" + a.Value })
	case fmt.Stringer:
		return v.String()
	}
	if text := reflect.ValueOf(value); text.Kind() == reflect.String {
		return text.String()
	}
	text, _ := json.Marshal(value)
	return string(text)
}

func join[T any](list []T, text func(T) string) string {
	parts := make([]string, len(list))
	for i, entry := range list {
		parts[i] = text(entry)
	}
	return strings.Join(parts, ", ")
}
