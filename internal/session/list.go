package session

import (
	"cmp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// Filter selects open sessions. Empty fields select everything.
type Filter struct {
	// User is a name without regard to case; * stands for any characters.
	User, MAC, Client, Pass, Lane, Address, Class string
	// Text is searched in name, person, MAC, address, client and session.
	Text string
	// Before is a cursor: only those that began earlier.
	Before ident.ID
	Limit  int
	// Reach leaves out sessions on other clients; nil is all of them.
	Reach func(client string) bool
}

// matcher is a filter that is made ready.
type matcher struct {
	*Filter
	user, text record.Pattern
}

func (f *Filter) matcher() *matcher {
	return &matcher{f, record.NewPattern(f.User), record.NewPattern("*" + f.Text + "*")}
}

// fits reports whether the filter selects a session.
func (m *matcher) fits(s *Session) bool {
	return (m.Reach == nil || m.Reach(s.Client)) &&
		(m.User == "" || m.user.Match(s.Who)) && (m.MAC == "" || m.MAC == s.MAC) &&
		(m.Client == "" || strings.EqualFold(m.Client, s.Client)) && (m.Pass == "" || strings.EqualFold(m.Pass,
		s.Pass)) &&
		(m.Lane == "" || strings.EqualFold(m.Lane, s.Lane)) &&
		(m.Address == "" || m.Address == s.Address) &&
		(m.Class == "" || m.Class == s.Class) &&
		(m.Text == "" || m.text.Match(s.Who) || m.text.Match(s.Address) ||
			m.text.Match(s.MAC) || m.text.Match(s.Client) || m.text.Match(s.Session) || m.text.Match(s.Display))
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
	m := f.matcher()
	if f.User != "" && !strings.Contains(f.User, "*") {
		return b.ofPerson(m)
	}
	list := *b.order.Load()
	for end := len(list); end > 0 && (f.Limit == 0 || len(items) <= f.Limit); {
		begin := max(0, end-stretch)
		items = append(items, m.among(list[begin:end])...)
		end = begin
	}
	if f.Limit > 0 && len(items) > f.Limit {
		items = items[:f.Limit:f.Limit]
		return items, items[f.Limit-1].ID
	}
	return items, 0
}

// stretch is how many sessions are looked at before it is asked whether the page is full; part how many one goroutine
// looks at.
const (
	part    = 1 << 13
	stretch = 1 << 16
)

// among lists those that fit, the newest first, but of each part no more than a page and one.
func (f *matcher) among(list []*entry) (items []*Session) {
	parts := make([][]*Session, (len(list)+part-1)/part)
	var next atomic.Int32
	search := func() {
		for i := int(next.Add(1)) - 1; i < len(parts); i = int(next.Add(1)) - 1 {
			end := len(list) - i*part
			parts[i] = f.newest(list[max(0, end-part):end])
		}
	}
	var others sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(parts)) - 1 {
		others.Go(search)
	}
	search()
	others.Wait()
	return slices.Concat(parts...)
}

func (f *matcher) newest(list []*entry) (items []*Session) {
	for _, e := range slices.Backward(list) {
		s := e.now.Load()
		if s == nil || f.Before != 0 && s.ID >= f.Before || !f.fits(s) {
			continue
		}
		if items = append(items, s); f.Limit > 0 && len(items) > f.Limit {
			break
		}
	}
	return items
}

// ofPerson lists those of one person.
func (b *Book) ofPerson(f *matcher) (items []*Session, next ident.ID) {
	b.of(strings.ToLower(f.User), func(s *Session) {
		if (f.Before == 0 || s.ID < f.Before) && f.fits(s) {
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
