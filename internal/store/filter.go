package store

import (
	"math"
	"strings"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// conditions are what a filter asks of records. Each is said twice, side by side, as SQL and as a function: lists ask
// the database, live views what was just recorded, and both show the same.
type conditions[T any] struct {
	parts []string
	args  []any
	fits  []func(*T) bool
}

func (c *conditions[T]) add(fits func(*T) bool, part string, args ...any) {
	c.parts, c.args, c.fits = append(c.parts, part), append(c.args, args...), append(c.fits, fits)
}

// equal asks for a value, unless it is empty.
func (c *conditions[T]) equal(column, value string, of func(*T) string) {
	if value != "" {
		c.add(func(r *T) bool { return of(r) == value }, column+" = ?", value)
	}
}

// where is the condition of a query, with the values for its placeholders.
func (c *conditions[T]) where() (string, []any) {
	if len(c.parts) == 0 {
		return "", nil
	}
	return " WHERE " + strings.Join(c.parts, " AND "), c.args
}

// match reports whether a record fulfils all conditions.
func (c *conditions[T]) match(r *T) bool {
	for _, fits := range c.fits {
		if !fits(r) {
			return false
		}
	}
	return true
}

// Span is a part of the time.
type Span struct {
	Since, Until time.Time
	// Before is a cursor: only older ones. After: only newer ones.
	Before, After ident.ID
}

// within asks for records of a span.
func within[T any](c *conditions[T], s *Span, id func(*T) ident.ID) {
	if !s.Since.IsZero() {
		at := ident.At(s.Since)
		c.add(func(r *T) bool { return id(r) >= at }, "id >= ?", at)
	}
	if !s.Until.IsZero() {
		at := ident.At(s.Until)
		c.add(func(r *T) bool { return id(r) < at }, "id < ?", at)
	}
	if s.Before != 0 {
		c.add(func(r *T) bool { return id(r) < s.Before }, "id < ?", s.Before)
	}
	if s.After != 0 {
		c.add(func(r *T) bool { return id(r) > s.After }, "id > ?", s.After)
	}
}

// Filter selects attempts. Empty fields select everything.
type Filter struct {
	User    string // exact, without regard to case; * stands for any characters
	MAC     string
	Client  string
	Verdict string
	Reason  string
	Lane    string
	// Text is searched in name, person, MAC and client.
	Text string
	Span
	Limit int
}

// Fits reports whether an attempt is among those that the filter selects.
func (f *Filter) Fits(a *Attempt) bool {
	c := f.conditions()
	return c.match(a)
}

func (f *Filter) conditions() *conditions[Attempt] {
	c := &conditions[Attempt]{}
	if user := strings.ToLower(f.User); strings.Contains(user, "*") {
		c.add(func(a *Attempt) bool { return wildcard(user, a.Who) || wildcard(user, a.Sent) },
			`(who LIKE ? ESCAPE '\' OR sent LIKE ? ESCAPE '\')`, like(user), like(user))
	} else {
		f.key(c, "who", user, func(a *Attempt) string { return a.Who })
	}
	f.key(c, "mac", f.MAC, func(a *Attempt) string { return a.MAC })
	c.equal("client", f.Client, func(a *Attempt) string { return a.Client })
	c.equal("verdict", f.Verdict, func(a *Attempt) string { return a.Verdict })
	c.equal("reason", f.Reason, func(a *Attempt) string { return a.Reason })
	c.equal("lane", f.Lane, func(a *Attempt) string { return a.Lane })
	if f.Text != "" {
		part := "*" + f.Text + "*"
		pattern := like(part)
		c.add(func(a *Attempt) bool {
			return wildcard(part, a.Sent) || wildcard(part, a.Display) || wildcard(part, a.MAC) || wildcard(part,
				a.Client)
		}, `(sent LIKE ? ESCAPE '\' OR display LIKE ? ESCAPE '\' OR mac LIKE ? ESCAPE '\' OR client LIKE ? ESCAPE '\')`, pattern, pattern, pattern, pattern)
	}
	within(c, &f.Span, func(a *Attempt) ident.ID { return a.ID })
	return c
}

// key selects by a name or MAC address: through the table of those seen, and one by one what is not in it yet.
func (f *Filter) key(c *conditions[Attempt], column, value string, of func(*Attempt) string) {
	if value == "" {
		return
	}
	before := f.Before
	if before == 0 {
		before = math.MaxInt64
	}
	c.equal(column, value, of)
	c.add(func(*Attempt) bool { return true },
		"id IN (SELECT id FROM seen WHERE key = ? AND id < ? UNION ALL SELECT id FROM attempts WHERE id > (SELECT id "+
			"FROM seen_until) AND "+column+" = ?)", value, before, value)
}

// EntryFilter selects entries of the journal. Empty fields select everything.
type EntryFilter struct {
	Who, Client, Verdict, Task string
	// Kind is the kind of the entry; Reported stands for all that gear reported.
	Kind string
	// Text is searched in command, name, person, client and arguments.
	Text string
	Span
	Limit int
}

// Reported selects the entries of every kind that gear reported.
const Reported = "record"

// Fits reports whether an entry is among those that the filter selects.
func (f *EntryFilter) Fits(e *Entry) bool {
	c := f.conditions()
	return c.match(e)
}

func (f *EntryFilter) conditions() *conditions[Entry] {
	c := &conditions[Entry]{}
	if who := strings.ToLower(f.Who); strings.Contains(who, "*") {
		c.add(func(e *Entry) bool { return wildcard(who, e.Who) }, `who LIKE ? ESCAPE '\'`, like(who))
	} else {
		c.equal("who", who, func(e *Entry) string { return e.Who })
	}
	if f.Kind == Reported {
		c.add(func(e *Entry) bool { return e.Kind == "start" || e.Kind == "stop" || e.Kind == "update" },
			"kind IN ('start', 'stop', 'update')")
	} else {
		c.equal("kind", f.Kind, func(e *Entry) string { return e.Kind })
	}
	c.equal("client", f.Client, func(e *Entry) string { return e.Client })
	c.equal("verdict", f.Verdict, func(e *Entry) string { return e.Verdict })
	c.equal("task", f.Task, func(e *Entry) string { return e.Task })
	if f.Text != "" {
		part := "*" + f.Text + "*"
		pattern := like(part)
		c.add(func(e *Entry) bool {
			for _, arg := range e.Args {
				if wildcard(part, arg) {
					return true
				}
			}
			return wildcard(part, e.Command) || wildcard(part, e.Who) || wildcard(part, e.Client) || wildcard(part,
				e.Display)
		}, `(command LIKE ? ESCAPE '\' OR who LIKE ? ESCAPE '\' OR client LIKE ? ESCAPE '\' OR rest ->> 'display' LIKE ? ESCAPE '\'
			OR EXISTS (SELECT 1 FROM json_each(rest, '$.args') WHERE value LIKE ? ESCAPE '\'))`, pattern, pattern, pattern, pattern, pattern)
	}
	within(c, &f.Span, func(e *Entry) ident.ID { return e.ID })
	return c
}

// like turns * into the wildcard of SQL and takes the meaning from SQL's own.
func like(pattern string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`, "*", "%").Replace(pattern)
}

// wildcard matches a text with a pattern in which * stands for any characters, as LIKE does: without regard to the case
// of ASCII letters, and of those alone.
func wildcard(pattern, text string) bool {
	pattern, text = lowerASCII(pattern), lowerASCII(text)
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == text
	}
	if !strings.HasPrefix(text, parts[0]) {
		return false
	}
	text = text[len(parts[0]):]
	for _, part := range parts[1 : len(parts)-1] {
		at := strings.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}
	return strings.HasSuffix(text, parts[len(parts)-1])
}

func lowerASCII(text string) string {
	return strings.Map(func(r rune) rune {
		if 'A' <= r && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, text)
}
