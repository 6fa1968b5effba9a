package session

import (
	"cmp"
	"slices"
	"strings"

	"tollgate.example/key/internal/base/ident"
)

// Filter selects open sessions. Empty fields select everything.
type Filter struct {
	// User is exact, without regard to case; * stands for any characters at the end.
	User, MAC, Client, Pass, Lane, Address, Class string
	// Text is searched in name, person, MAC, address, client and session.
	Text string
	// Before is a cursor: only those that began earlier.
	Before ident.ID
	Limit  int
	// upper is the text in upper case, as MAC addresses are written.
	upper string
}

// Fits reports whether the filter selects a session.
func (f *Filter) Fits(s *Session) bool {
	return f.user(s.Who) && (f.MAC == "" || f.MAC == s.MAC) && (f.Client == "" || strings.EqualFold(f.Client,
		s.Client)) &&
		(f.Pass == "" || strings.EqualFold(f.Pass, s.Pass)) && (f.Lane == "" || strings.EqualFold(f.Lane, s.Lane)) &&
		(f.Address == "" || f.Address == s.Address) && (f.Class == "" || f.Class == s.Class) && f.text(s)
}

func (f *Filter) user(who string) bool {
	if f.User == "" {
		return true
	}
	if begin, open := strings.CutSuffix(f.User, "*"); open {
		return len(who) >= len(begin) && strings.EqualFold(who[:len(begin)], begin)
	}
	return strings.EqualFold(f.User, who)
}

// text looks for the text, which is in lower case.
func (f *Filter) text(s *Session) bool {
	if f.Text == "" {
		return true
	}
	return strings.Contains(s.Who, f.Text) || strings.Contains(s.Address, f.Text) || strings.Contains(s.MAC, f.upper) ||
		contains(s.Client, f.Text) || contains(s.Session, f.Text) || contains(s.Display, f.Text)
}

// contains looks for an ASCII text without regard to case; low is in lower case.
func contains(text, low string) bool {
	for i := 0; i+len(low) <= len(text); i++ {
		j := 0
		for j < len(low) && lower(text[i+j]) == low[j] {
			j++
		}
		if j == len(low) {
			return true
		}
	}
	return false
}

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// ByClass finds the open sessions of some values of Class, as they are recorded.
func ByClass[V any](b *Book, classes map[string]V) map[string]*Session {
	out := map[string]*Session{}
	if len(classes) == 0 {
		return out
	}
	for _, e := range *b.order.Load() {
		if s := e.now.Load(); s != nil && s.Class != "" {
			if _, wanted := classes[s.Class]; wanted {
				out[s.Class] = s
			}
		}
	}
	return out
}

// List lists sessions, those that began last first; next continues as Before, 0 at the end.
func (b *Book) List(f Filter) (items []*Session, next ident.ID) {
	f.Text, f.upper = strings.ToLower(f.Text), strings.ToUpper(f.Text)
	if f.User != "" && !strings.HasSuffix(f.User, "*") {
		return b.ofPerson(&f)
	}
	list := *b.order.Load()
	for i := len(list) - 1; i >= 0; i-- {
		s := list[i].now.Load()
		if s == nil || f.Before != 0 && s.ID >= f.Before || !f.Fits(s) {
			continue
		}
		if f.Limit > 0 && len(items) == f.Limit {
			return items, items[len(items)-1].ID
		}
		items = append(items, s)
	}
	return items, 0
}

// ofPerson lists those of one person.
func (b *Book) ofPerson(f *Filter) (items []*Session, next ident.ID) {
	b.Of(strings.ToLower(f.User), "", func(s *Session) {
		if (f.Before == 0 || s.ID < f.Before) && f.Fits(s) {
			items = append(items, s)
		}
	})
	slices.SortFunc(items, func(a, b *Session) int { return cmp.Compare(b.ID, a.ID) })
	if f.Limit > 0 && len(items) > f.Limit {
		items = items[:f.Limit]
		next = items[f.Limit-1].ID
	}
	return items, next
}
