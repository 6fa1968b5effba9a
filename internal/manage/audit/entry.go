package audit

import (
	"context"
	"slices"
	"sync"

	"tollgate.example/key/internal/core/chain"
	"tollgate.example/key/internal/store"
)

// Entry is what a call has to say for the audit. It accompanies the context of the call: the transaction that makes the
// change records it. A nil entry takes everything and records nothing.
type Entry struct {
	trail *Trail

	mu   sync.Mutex
	line Line
	// armed tells that the line is not recorded yet.
	armed bool
}

type entryKey struct{}

// Begin makes the entry of a call. Calls whose entry is not armed record nothing, unless they say something.
func (t *Trail) Begin(ctx context.Context, line Line, armed bool) (context.Context, *Entry) {
	e := &Entry{trail: t, line: line, armed: armed}
	return store.WithNote(context.WithValue(ctx, entryKey{}, e), e), e
}

// Of is the entry of a context.
func Of(ctx context.Context) *Entry {
	e, _ := ctx.Value(entryKey{}).(*Entry)
	return e
}

// On says what is changed: its kind, identifier and name.
func (e *Entry) On(kind, object, name string) *Entry {
	return e.with(func(l *Line) { l.Kind, l.Object, l.Name = kind, object, name })
}

// Say says in words what is done.
func (e *Entry) Say(what string) *Entry { return e.with(func(l *Line) { l.What = what }) }

// From compares the object before and after; both may be nil.
func (e *Entry) From(before, after any) *Entry {
	if e == nil {
		return e
	}
	changes, old, fresh := Compare(before, after)
	return e.with(func(l *Line) { l.Changes, l.Before, l.After = changes, old, fresh })
}

// Listed says what changes in words, with the forms before and after, which may be nil.
func (e *Entry) Listed(changes []Change, before, after any) *Entry {
	if e == nil {
		return e
	}
	old, fresh := form(plain(before)), form(plain(after))
	if len(changes) > maxChanges {
		changes = append(changes[:maxChanges:maxChanges], Change{Field: "…", After: "more"})
	}
	for i := range changes {
		changes[i].Before, changes[i].After = shown(changes[i].Before), shown(changes[i].After)
	}
	return e.with(func(l *Line) { l.Changes, l.Before, l.After = changes, old, fresh })
}

// Also adds a change that the forms of the object do not show.
func (e *Entry) Also(field, what string) *Entry {
	return e.with(func(l *Line) { l.Changes = append(l.Changes, Change{Field: field, After: what}) })
}

// By says who it was, where that shows in the course of the call.
func (e *Entry) By(who, role string) *Entry {
	return e.with(func(l *Line) { l.Who, l.Role = who, role })
}

// Failed says that what was recorded before came to nothing.
func (e *Entry) Failed() *Entry { return e.with(func(l *Line) { l.Result = Failed }) }

// Skip records nothing: nothing was changed.
func (e *Entry) Skip() *Entry {
	if e != nil {
		e.mu.Lock()
		e.armed = false
		e.mu.Unlock()
	}
	return e
}

// Because is the line of an entry that is not recorded by itself, with a reason.
func (e *Entry) Because(why string) Line {
	if e == nil {
		return Line{Why: why}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	line := e.line
	line.Why = why
	return line
}

// with changes the line, which is to be recorded from then on.
func (e *Entry) with(do func(*Line)) *Entry {
	if e == nil {
		return e
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	do(&e.line)
	e.armed = true
	return e
}

// Now records what the entry says, and returns when it is on the disk: before something is done that no transaction
// holds, such as an export or a packet.
func (e *Entry) Now(ctx context.Context) error {
	if e == nil {
		return nil
	}
	return e.trail.store.Record(ctx, e)
}

// Close records what is left to be said of a call that ended well, and reports whether that could be done.
func (e *Entry) Close(ctx context.Context) error {
	e.mu.Lock()
	armed := e.armed
	e.mu.Unlock()
	if !armed {
		return nil
	}
	err := e.Now(ctx)
	if err != nil {
		e.mu.Lock()
		line := e.line
		e.armed = false
		e.mu.Unlock()
		e.trail.keep(&line)
	}
	return err
}

// Draft implements store.Note.
func (e *Entry) Draft() []byte {
	e.mu.Lock()
	defer e.mu.Unlock()
	if !e.armed {
		return nil
	}
	line := e.line
	line.At = Moment(e.trail.now())
	return line.encode(0)
}

// Lines implements store.Note: what waits from before comes first.
func (e *Entry) Lines(next int64) (texts [][]byte, settled func(last chain.Sum, err error)) {
	waited := e.trail.take()
	all := waited
	e.mu.Lock()
	armed := e.armed
	if armed {
		line := e.line
		line.At = Moment(e.trail.now())
		e.armed = false
		all = append(slices.Clone(waited), &line)
	}
	e.mu.Unlock()
	for i, l := range all {
		texts = append(texts, l.encode(next+int64(i)))
	}
	return texts, func(last chain.Sum, err error) {
		if err == nil {
			e.trail.recorded(all, last)
			return
		}
		e.trail.giveBack(waited)
		e.mu.Lock()
		e.armed = e.armed || armed
		e.mu.Unlock()
	}
}
