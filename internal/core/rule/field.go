package rule

import (
	"net/netip"
	"strings"

	"tollgate.example/key/internal/core/facts"
)

// Stage says when a field is known.
type Stage int

const (
	// Request fields are known from the request alone; lanes may use only these.
	Request Stage = iota
	// Person fields need the person to have been looked up.
	Person
)

// Type is the type of a field.
type Type string

const (
	Text    Type = "text"
	List    Type = "list"
	Address Type = "address"
	MAC     Type = "mac"
	// Age is how long ago something was, or how long it lasts yet; it is compared with within and at least.
	Age Type = "age"
	// Hours is the time of the attempt, compared with named calendars.
	Hours Type = "calendar"
)

// Field is something that a condition can ask about.
type Field struct {
	// Name as written; a name ending in ".*" stands for a family, such as client.site.
	Name  string `json:"name"`
	Type  Type   `json:"type"`
	Stage Stage  `json:"-"`
	Help  string `json:"help"`
	// Examples are values to complete with; where Closed, there are no others.
	Examples []string `json:"examples,omitempty"`
	Closed   bool     `json:"closed,omitempty"`

	access
}

// operators lists what a type can be compared with.
func (t Type) operators() []Operator {
	switch t {
	case Address:
		return []Operator{Is, IsNot, In, NotIn, Within, Exists}
	case Age:
		return []Operator{Within, AtLeast, Exists}
	case Hours:
		return []Operator{Is, IsNot, In, NotIn}
	case MAC:
		return []Operator{Is, IsNot, In, NotIn, Starts, Ends, Contains, Matches, Exists}
	}
	return []Operator{Is, IsNot, In, NotIn, Starts, Ends, Contains, Matches, AtLeast, Exists}
}

// Operators are what the field can be compared with, in the order to offer them.
func (f *Field) Operators() []Operator { return f.Type.operators() }

// Fields lists what conditions can ask about.
func Fields() []Field { return append([]Field(nil), fields...) }

// lookup finds a field by its written name; key is the part a family leaves open.
func lookup(name string) (field *Field, key string) {
	lower := strings.ToLower(name)
	for i := range fields {
		if fields[i].Name == lower {
			return &fields[i], ""
		}
	}
	for i := range fields {
		if family, ok := strings.CutSuffix(fields[i].Name, "*"); ok && strings.HasPrefix(lower, family) &&
			len(lower) > len(family) {
			key = name[len(family):]
			switch family {
			case "client.", "device.":
				key = strings.ToLower(key)
			case "sessions.pass.", "sessions.lane.":
				key = facts.Key(key)
			}
			return &fields[i], key
		}
	}
	return nil, ""
}

// suggest returns the field whose name is closest, "" if none is close.
func suggest(name string) string {
	names := make([]string, len(fields))
	for i := range fields {
		names[i] = fields[i].Name
	}
	lower := strings.ToLower(name)
	if near := nearest(lower, names, min(3, len(name)/2)); near != "" {
		return near
	}
	switch lower {
	case "user", "username", "login", "account":
		return "sent"
	case "memberof", "member", "groups":
		return "group"
	case "ip", "nas-ip-address", "source":
		return "client.address"
	case "hour", "weekday", "day", "date", "calendar":
		return "time"
	}
	return ""
}

// nearest returns the closest of some texts, "" if none is as close as the limit.
func nearest(text string, among []string, limit int) string {
	best := ""
	for _, candidate := range among {
		if d := distance(text, candidate); d <= limit && (best == "" || d < distance(text, best)) {
			best = candidate
		}
	}
	return best
}

// distance is the edit distance of two short texts.
func distance(a, b string) int {
	if len(a) > 40 || len(b) > 40 {
		return 99
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := before
			if a[i] != b[j] {
				cost = 1 + min(before, row[j], row[j+1])
			}
			before, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}

func parseAddress(text string) (netip.Prefix, bool) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), true
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, false
	}
	a = a.Unmap()
	return netip.PrefixFrom(a, a.BitLen()), true
}
