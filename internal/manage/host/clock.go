// Package host watches what the machine gives to the service: the clock, which may jump, and the disk, which may fill
// up.
package host

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"
)

const (
	lookEvery = 5 * time.Second
	noteEvery = 30 * time.Second
	// jump is how far the clock may go off from the time that passed before that is a jump: what keeps clocks right
	// sets them by less.
	jump = 3 * time.Second
	// remembered is how long a jump asks for attention, keptJumps how many are kept.
	remembered = 24 * time.Hour
	keptJumps  = 10
	// doubtful is from how far ahead on nothing is removed because of its age for a day.
	doubtful = 48 * time.Hour
)

// ClockStore keeps when the service was last seen running.
type ClockStore interface {
	Seen(ctx context.Context) (time.Time, error)
	SaveSeen(ctx context.Context, at time.Time) error
}

// Jump is a time at which the clock was set.
type Jump struct {
	// At is when it was noticed, by the clock as it was then; By how far it was set, negative for back.
	At time.Time
	By time.Duration
	// Stopped tells that it happened while the service was stopped.
	Stopped bool
	noticed time.Time // by the monotonic clock
}

// Clock notices when the clock of the machine is set.
type Clock struct {
	store ClockStore
	now   func() time.Time
	seen  time.Time

	begun time.Time     // by the monotonic clock
	away  time.Duration // how long the service was stopped, if the clock is right

	mu    sync.Mutex
	jumps []Jump
}

// OpenClock compares the clock with when the service was last seen running. A nil now is time.Now.
func OpenClock(ctx context.Context, s ClockStore, now func() time.Time) (*Clock, error) {
	if now == nil {
		now = time.Now
	}
	seen, err := s.Seen(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading when the service was last seen running: %w", err)
	}
	c := &Clock{store: s, now: now, seen: seen, begun: time.Now()}
	at := wall(now())
	if !seen.IsZero() {
		c.away = at.Sub(seen)
	}
	if back := seen.Sub(at); !seen.IsZero() && back > jump {
		c.jumped(Jump{At: at, By: -back, Stopped: true})
	}
	return c, s.SaveSeen(ctx, at)
}

// wall is a time without its monotonic part.
func wall(t time.Time) time.Time { return t.Round(0) }

// Seen is when the service was last seen running before it started; zero if never.
func (c *Clock) Seen() time.Time { return c.seen }

// Run looks at the clock until the context ends.
func (c *Clock) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	before, mono, noted := wall(c.now()), time.Now(), time.Now()
	for {
		select {
		case <-ctx.Done():
			c.note(context.WithoutCancel(ctx))
			return
		case <-tick.C:
		}
		before, mono = c.look(before, mono)
		if time.Since(noted) >= noteEvery {
			noted = time.Now()
			c.note(ctx)
		}
	}
}

// look compares what passed by the clock with what passed.
func (c *Clock) look(before, mono time.Time) (time.Time, time.Time) {
	at, passed := wall(c.now()), time.Since(mono)
	if by := at.Sub(before) - passed; by > jump || by < -jump {
		c.jumped(Jump{At: at, By: by.Round(time.Second)})
	}
	return at, time.Now()
}

func (c *Clock) note(ctx context.Context) {
	if err := c.store.SaveSeen(ctx, wall(c.now())); err != nil && ctx.Err() == nil {
		slog.Warn("noting that the service is running", "error", err)
	}
}

func (c *Clock) jumped(j Jump) {
	j.noticed = time.Now()
	slog.Warn("the clock was set", "by", j.By, "while stopped", j.Stopped)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.jumps = append(c.jumps, j)
	if len(c.jumps) > keptJumps {
		c.jumps = c.jumps[1:]
	}
}

// Doubtful reports whether the clock may be days ahead: it was set so within the last day, or was it while the service
// was stopped, which looks the same as a long stop.
func (c *Clock) Doubtful() bool {
	if c.away > doubtful && time.Since(c.begun) < remembered {
		return true
	}
	return slices.ContainsFunc(c.Jumps(), func(j Jump) bool { return j.By > doubtful })
}

// Jumps are the jumps of the last day, the oldest first.
func (c *Clock) Jumps() []Jump {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []Jump
	for _, j := range c.jumps {
		if time.Since(j.noticed) < remembered {
			out = append(out, j)
		}
	}
	return out
}
