package store

import (
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/store/record"
)

// conditions collects what a filter asks of records. Lists and live views go by the same conditions, so both show the
// same.
type conditions[T any] []record.Condition[T]

// equal asks for a value, unless it is empty.
func (c *conditions[T]) equal(field, value string, of func(*T) string) {
	if value != "" {
		*c = append(*c, record.Condition[T]{Fits: func(r *T) bool { return of(r) == value },
			In: []record.Lookup{{Field: field, Pattern: value}}})
	}
}

// match asks for a value that matches a pattern, in one of some fields.
func (c *conditions[T]) match(pattern string, of func(r *T, match func(string) bool) bool, fields ...string) {
	p := record.NewPattern(pattern)
	one := record.Condition[T]{Fits: func(r *T) bool { return of(r, p.Match) }}
	for _, field := range fields {
		one.In = append(one.In, record.Lookup{Field: field, Pattern: pattern})
	}
	*c = append(*c, one)
}

func fits[T any](c conditions[T], r *T) bool {
	for i := range c {
		if !c[i].Fits(r) {
			return false
		}
	}
	return true
}

// Span is a part of the time, and of the order of recording.
type Span = record.Span

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
	// Reach leaves out what happened on other clients; nil is all of them.
	Reach func(client string) bool
	Span
	Limit int
	// Patience is how long to search before what was found so far is returned; 0 is as long as it takes.
	Patience time.Duration
}

// Fits reports whether an attempt is among those that the filter selects by what is in it.
func (f *Filter) Fits(a *Attempt) bool { return f.Holds(a.ID, a.At) && fits(f.conditions(), a) }

func (f *Filter) conditions() conditions[Attempt] {
	c := conditions[Attempt]{}
	if user := strings.ToLower(f.User); strings.Contains(user, "*") {
		c.match(user, func(a *Attempt, match func(string) bool) bool { return match(a.Who) || match(a.Sent) }, "who",
			"sent")
	} else {
		c.equal("who", user, func(a *Attempt) string { return a.Who })
	}
	c.equal("mac", f.MAC, func(a *Attempt) string { return a.MAC })
	c.equal("client", f.Client, func(a *Attempt) string { return a.Client })
	c.equal("verdict", f.Verdict, func(a *Attempt) string { return a.Verdict })
	c.equal("reason", f.Reason, func(a *Attempt) string { return a.Reason })
	c.equal("lane", f.Lane, func(a *Attempt) string { return a.Lane })
	if f.Reach != nil {
		c = append(c, record.Condition[Attempt]{Fits: func(a *Attempt) bool { return f.Reach(a.Client) }})
	}
	if f.Text != "" {
		// who stands for what was sent where that is the same
		c.match("*"+f.Text+"*", func(a *Attempt, match func(string) bool) bool {
			return match(a.Sent) || match(a.Display) || match(a.MAC) || match(a.Client)
		}, "sent", "who", "display", "mac", "client")
	}
	return c
}

// ByClass asks for the attempt that was given a Class, as it is recorded, with its facts.
func ByClass(class string) record.Query[Attempt] {
	c := conditions[Attempt]{}
	c.equal("class", class, func(a *Attempt) string { return a.Class })
	return record.Query[Attempt]{Conditions: c, Limit: 1, Patience: 2 * time.Second,
		Bodies: func(*Attempt) bool { return true }}
}

// EntryFilter selects entries of the journal. Empty fields select everything.
type EntryFilter struct {
	Who, Client, Verdict, Task string
	// Kind is the kind of the entry; Reported stands for all that gear reported.
	Kind string
	// Text is searched in command, name, person, client and arguments.
	Text string
	// Reach leaves out what happened on other clients; nil is all of them.
	Reach func(client string) bool
	Span
	Limit int
	// Patience is how long to search before what was found so far is returned; 0 is as long as it takes.
	Patience time.Duration
}

// Reported selects the entries of every kind that gear reported.
const Reported = "record"

// Fits reports whether an entry is among those that the filter selects by what is in it.
func (f *EntryFilter) Fits(e *Entry) bool { return f.Holds(e.ID, e.At) && fits(f.conditions(), e) }

func (f *EntryFilter) conditions() conditions[Entry] {
	c := conditions[Entry]{}
	if who := strings.ToLower(f.Who); strings.Contains(who, "*") {
		c.match(who, func(e *Entry, match func(string) bool) bool { return match(e.Who) }, "who")
	} else {
		c.equal("who", who, func(e *Entry) string { return e.Who })
	}
	if f.Kind == Reported {
		c = append(c, record.Condition[Entry]{Fits: func(e *Entry) bool {
			return e.Kind == "start" || e.Kind == "stop" || e.Kind == "update"
		}, In: []record.Lookup{{Field: "kind", Pattern: "start"}, {Field: "kind", Pattern: "stop"}, {Field: "kind",
			Pattern: "update"}}})
	} else {
		c.equal("kind", f.Kind, func(e *Entry) string { return e.Kind })
	}
	c.equal("client", f.Client, func(e *Entry) string { return e.Client })
	c.equal("verdict", f.Verdict, func(e *Entry) string { return e.Verdict })
	c.equal("task", f.Task, func(e *Entry) string { return e.Task })
	if f.Reach != nil {
		c = append(c, record.Condition[Entry]{Fits: func(e *Entry) bool { return f.Reach(e.Client) }})
	}
	if f.Text != "" {
		c.match("*"+f.Text+"*", func(e *Entry, match func(string) bool) bool {
			return match(e.Command) || match(e.Who) || match(e.Client) || match(e.Display) ||
				slices.ContainsFunc(e.Args,
					match)
		}, "command", "who", "client", "display", "arg")
	}
	return c
}
