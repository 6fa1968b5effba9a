package change

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/session"
)

const (
	// lookEvery is how often some sessions are looked at again: a tenth of them, so that each has its turn within a
	// minute and directories are asked evenly, or looksAtOnce.
	lookEvery   = 5 * time.Second
	looksAtOnce = 1500
	// asksAtOnce bounds how many clients are asked each time, so that a change of policy is no storm.
	asksAtOnce = 50
	// restAfter is how long a session is left alone after it was asked for.
	restAfter = 5 * time.Minute
	// rule is by whom it is asked.
	rule = "rule"
)

// Decider decides an attempt again; known is false if it cannot be told now.
type Decider interface {
	Again(ctx context.Context, f facts.Facts, now time.Time) (d decide.Decision, known bool)
}

// List lists open sessions.
type List interface {
	List(f session.Filter) ([]*session.Session, ident.ID)
	Len() int
}

// Follower asks for the sessions of lanes that follow changes, once their people would get something else: another
// pass, or nothing. One goroutine uses it.
type Follower struct {
	keeper  *Keeper
	decider Decider
	list    List
	soon    chan string
	cursor  ident.ID
	asked   map[ident.ID]time.Time
}

// NewFollower makes a follower.
func NewFollower(k *Keeper, list List, d Decider) *Follower {
	return &Follower{keeper: k, list: list, decider: d, soon: make(chan string, 1000), asked: map[ident.ID]time.Time{}}
}

// Soon has the sessions of a person looked at next: something of the person was changed here.
func (f *Follower) Soon(who string) {
	select {
	case f.soon <- who:
	default: // so many are due that all are looked at anyway
	}
}

// Run follows until the context ends.
func (f *Follower) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case who := <-f.soon:
			list, _ := f.list.List(session.Filter{User: who})
			f.look(ctx, list)
		case <-tick.C:
			list, next := f.list.List(session.Filter{Before: f.cursor, Limit: min(f.list.Len()/10+1, looksAtOnce)})
			f.cursor = next
			f.look(ctx, list)
		}
	}
}

// Differs says in words what the person of a session would get now, "" if nothing else.
func (f *Follower) Differs(ctx context.Context, s *session.Session) (string, error) {
	if s.Class == "" {
		return "", nil
	}
	was, given, err := f.keeper.facts(ctx, s)
	if err != nil || was.Person == nil {
		return "", err
	}
	d, known := f.decider.Again(ctx, *was, time.Now())
	switch {
	case !known:
		return "", nil
	case d.Verdict != results.Admitted:
		return "would be refused now, " + string(d.Reason), nil
	case d.Pass != nil && d.Pass.Name != given: // not s.Pass: what an operator changed by hand stays
		return fmt.Sprintf("would get pass %s now instead of %s", d.Pass.Name, given), nil
	}
	return "", nil
}

// follows reports whether the lane of a session follows changes.
func (f *Follower) follows(s *session.Session) bool {
	for _, lane := range f.keeper.current().Plan.Lanes {
		if lane.Name == s.Lane {
			return lane.Follow
		}
	}
	return false
}

func (f *Follower) look(ctx context.Context, list []*session.Session) {
	now, asked := time.Now(), 0
	for id, at := range f.asked {
		if now.Sub(at) > restAfter {
			delete(f.asked, id)
		}
	}
	for _, s := range list {
		if ctx.Err() != nil || asked == asksAtOnce {
			return
		}
		if _, lately := f.asked[s.ID]; lately || !f.follows(s) {
			continue
		}
		why, err := f.Differs(ctx, s)
		if err != nil {
			slog.Warn("looking at a session again", "session", s.ID, "error", err)
			continue
		}
		if why == "" {
			continue
		}
		asked++
		f.asked[s.ID] = now
		f.ask(ctx, s, why)
	}
}

// ask has the device authenticated again, or, where its client cannot do that, disconnected.
func (f *Follower) ask(ctx context.Context, s *session.Session, why string) {
	by := rule + ", " + why
	out, err := f.keeper.Ask(ctx, s.ID, Reauthenticate, "", by)
	if err == nil && !out.Done {
		out, err = f.keeper.Ask(ctx, s.ID, Disconnect, "", by)
	}
	if err != nil {
		slog.Warn("a client could not be asked to authenticate a session again", "client", s.Client, "session", s.ID,
			"error", err)
	}
}
