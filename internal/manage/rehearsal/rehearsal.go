// Package rehearsal decides recorded attempts again, under what is in effect and under the draft, before the draft is
// published.
package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/store"
)

const (
	// batch is how many attempts are read at once, and reports how often it is said how far it is.
	batch  = 500
	report = 200 * time.Millisecond
)

// ErrRunning tells that a rehearsal is under way.
var ErrRunning = errors.New("a rehearsal is under way already")

// While devices ask, it rests after each batch: this many times as long as the batch took, within these bounds.
const (
	restTimes = 3
	restLeast = time.Millisecond
	restMost  = 25 * time.Millisecond
)

// Keeper runs rehearsals, one at a time, and keeps the last. It is safe for concurrent use.
type Keeper struct {
	attempts *store.Attempts
	// live counts attempts as they come.
	live func() int64

	mu      sync.Mutex
	running bool
	last    *results.Rehearsal
}

// New makes a keeper. live counts attempts as they come, so that it can make way for them.
func New(a *store.Attempts, live func() int64) *Keeper { return &Keeper{attempts: a, live: live} }

// Last returns the last rehearsal that came to its end, nil if there was none since the start.
func (k *Keeper) Last() *results.Rehearsal {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.last
}

// Input is what to rehearse.
type Input struct {
	Before, After *decide.Plan
	Revision      int
	Draft         string
	Since, Until  time.Time
	// Ways tells who has a second factor now, and of which kinds, for lanes of the draft that ask for one where none
	// was asked for before.
	Ways func(store, name string) (codes, phones bool)
	// Sample are recorded facts to take instead of those of the time.
	Sample [][]byte
}

// Run decides the attempts of a time again, or those of a sample, and tells now and then how far it is. Live traffic
// goes first: it reads in small batches, one ahead of the one it works on, and holds no lock meanwhile.
func (k *Keeper) Run(ctx context.Context, in Input, tell func(results.Progress)) (*results.Rehearsal, error) {
	k.mu.Lock()
	if k.running {
		k.mu.Unlock()
		return nil, ErrRunning
	}
	k.running = true
	k.mu.Unlock()
	defer func() {
		k.mu.Lock()
		k.running = false
		k.mu.Unlock()
	}()
	begun := time.Now()
	out := &results.Rehearsal{Revision: in.Revision, Draft: in.Draft, Since: in.Since, Until: in.Until}
	out.Sample = in.Sample != nil
	var err error
	if out.Total, err = k.count(ctx, &in); err != nil {
		return nil, err
	}
	r := decide.NewRehearsal(in.Before, in.After)
	asks := in.Ways != nil && slices.ContainsFunc(in.After.Config.Lanes, func(l *config.Lane) bool {
		return l.SecondFactor != ""
	})
	var f facts.Facts
	told := time.Now()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := k.live()
	for b := range k.batches(ctx, &in) {
		if b.err != nil && ctx.Err() == nil {
			return nil, b.err
		}
		at := time.Now()
		for i := range b.rows {
			if f.ParseJSON(b.rows[i].Facts) != nil {
				out.Unreadable++
				continue
			}
			if p := f.Person; asks && p != nil && f.Factor == nil {
				codes, phones := in.Ways(p.Store, p.Name)
				f.Factor = &facts.Factor{Outcome: reason.FactorMissing, Supposed: codes, SupposedPhone: phones}
				if !codes && !phones {
					f.Factor = &facts.Factor{Outcome: reason.FactorNotEnrolled}
				}
			}
			r.Add(b.rows[i].ID.String(), &f)
		}
		out.Done += len(b.rows)
		if now := k.live(); now != asked { // devices are asking, and go first
			asked = now
			time.Sleep(min(restMost, max(restLeast, restTimes*time.Since(at))))
		}
		if time.Since(told) > report {
			told, out.Changed = time.Now(), r.Changed()
			tell(out.Progress)
		}
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf(
			"the rehearsal was stopped after %d of %d attempts: %w",
			out.Done,
			out.Total,
			ctx.Err(),
		)
	}
	out.Total, out.Changed, out.Differences = out.Done, r.Changed(), r.Differences()
	out.Ended, out.Micros = time.Now(), time.Since(begun).Microseconds()
	k.mu.Lock()
	defer k.mu.Unlock()
	k.last = out
	return out, nil
}

func (k *Keeper) count(ctx context.Context, in *Input) (int, error) {
	if in.Sample != nil {
		return len(in.Sample), nil
	}
	return k.attempts.Count(ctx, in.Since, in.Until)
}

// rows is one batch, or why there is none.
type rows struct {
	rows []store.Attempt
	err  error
}

// batches reads what is to be decided, one batch ahead. The channel ends after the last, after an error, and when the
// context ends.
func (k *Keeper) batches(ctx context.Context, in *Input) <-chan rows {
	out := make(chan rows, 1)
	send := func(b rows) bool {
		select {
		case out <- b:
			return b.err == nil
		case <-ctx.Done():
			return false
		}
	}
	go func() {
		defer close(out)
		for i := 0; i < len(in.Sample); i += batch {
			var b rows
			for n, line := range in.Sample[i:min(len(in.Sample), i+batch)] {
				b.rows = append(b.rows, store.Attempt{ID: ident.ID(i + n + 1), Facts: line})
			}
			if !send(b) {
				return
			}
		}
		if in.Sample != nil {
			return
		}
		for span := (store.Span{Since: in.Since, Until: in.Until, After: 1}); ; {
			found, err := k.attempts.Facts(ctx, span, batch)
			if err == nil && len(found) == 0 || !send(rows{found, err}) {
				return
			}
			span.After = found[len(found)-1].ID
		}
	}()
	return out
}
