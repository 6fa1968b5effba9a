package audit

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tollgate.example/key/internal/core/chain"
	"tollgate.example/key/internal/store"
)

const (
	// burst refusals of one source are lines of their own, then one each refill; of all sources together, allBurst and
	// one each allRefill. What is more is counted, and one line a minute tells of it.
	burst     = 20
	refill    = time.Minute
	allBurst  = 200
	allRefill = 2 * time.Second
	// maxSources bounds the sources that are counted apart.
	maxSources = 1000
	// trimAtOnce is how many lines are removed in one transaction.
	trimAtOnce = 20_000
	tellEvery  = time.Minute
)

// bucket is how many lines may still be recorded.
type bucket struct {
	left float64
	at   time.Time
}

func (b *bucket) take(now time.Time, size float64, every time.Duration) bool {
	if b.at.IsZero() {
		b.left = size
	} else {
		b.left = min(size, b.left+max(0, now.Sub(b.at).Seconds())/every.Seconds())
	}
	b.at = now
	if b.left < 1 {
		return false
	}
	b.left--
	return true
}

// flood keeps strangers from filling the disk with refusals: names and sources cost them nothing.
type flood struct {
	mu      sync.Mutex
	all     bucket
	sources map[string]*bucket
	// left out since they were told of, and the last of them.
	left int
	last Line
}

func (f *flood) take(line *Line, source string, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	b := f.sources[source]
	if b == nil {
		if len(f.sources) >= maxSources || f.sources == nil {
			f.sources = map[string]*bucket{}
		}
		b = &bucket{}
		f.sources[source] = b
	}
	if b.take(now, burst, refill) && f.all.take(now, allBurst, allRefill) {
		return true
	}
	f.left++
	f.last = *line
	return false
}

func (f *flood) told() (left int, last Line) {
	f.mu.Lock()
	defer f.mu.Unlock()
	left, last = f.left, f.last
	f.left = 0
	return left, last
}

// Refused records that somebody was refused. Of a flood, it records how many there were.
func (t *Trail) Refused(ctx context.Context, line Line) {
	line.Result = Refused
	if t.flood.take(&line, line.Actor.From, time.Now()) {
		_ = t.Put(ctx, line) // if it cannot be recorded now, it waits
	}
}

// tell records how many refusals were left out.
func (t *Trail) tell(ctx context.Context) {
	if left, last := t.flood.told(); left > 0 {
		last.Call, last.Object = "refusals", ""
		last.What = fmt.Sprintf("%d more refusals, of which this was the last: %s", left, last.What)
		last.Actor.From, last.Result = "", Refused
		_ = t.Put(ctx, last)
	}
}

// Run tells of floods, records what had to wait, removes lines after their time, and writes the head into the log, from
// where it goes to wherever logs are kept, until the context ends.
func (t *Trail) Run(ctx context.Context) {
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	t.logHead(ctx)
	for minutes := 1; ; minutes++ {
		select {
		case <-ctx.Done():
			t.tell(context.Background())
			t.logHead(context.Background())
			return
		case <-tick.C:
		}
		t.tell(ctx)
		if waiting, _ := t.Waiting(); waiting > 0 {
			_ = t.store.Record(ctx, &Entry{trail: t})
		}
		if minutes%60 == 0 {
			if err := t.Trim(ctx); err != nil && ctx.Err() == nil {
				t.o.Log.Warn("removing old lines of the audit", "error", err)
			}
		}
		if minutes%(24*60) == 0 {
			t.logHead(ctx)
		}
	}
}

func (t *Trail) logHead(ctx context.Context) {
	if h, err := t.Head(ctx); err == nil && h.Number > 0 {
		t.o.Log.Log(
			ctx,
			slog.LevelInfo,
			"head of the audit",
			"number",
			h.Number,
			"hash",
			h.Hash,
			"at",
			h.At,
			"key",
			h.Key,
			"signature",
			h.Signature,
		)
	}
}

// Trim removes the lines whose time is over, and records that it did. Not even then does the chain begin anew: the line
// about it keeps the hash before the first that stays.
func (t *Trail) Trim(ctx context.Context) error {
	if t.o.Keep == 0 || t.o.Doubtful != nil && t.o.Doubtful() {
		return nil
	}
	before := t.now().Add(-t.o.Keep)
	row, err := t.store.OldAudit(ctx, Moment(before))
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	first, _, err := t.store.AuditBounds(ctx)
	if err == nil && row.Number-first > trimAtOnce { // the rest with the next turn: changes wait for this one
		row, err = t.store.AuditLine(ctx, first+trimAtOnce)
	}
	if err != nil {
		return err
	}
	last, err := t.store.AuditBefore(ctx, row.Number)
	if err != nil {
		return err
	}
	noted, e := t.Begin(ctx, Line{Actor: Actor{How: "service"}, Call: "trim-audit", Kind: "audit", Result: Done,
		What: fmt.Sprintf("removed lines up to %d of the audit, which were older than %s", last.Number,
			before.UTC().Format(time.DateOnly)),
		First: row.Number, Chain: chain.SumOf(last.Hash).String()}, true)
	if err := t.store.TrimAudit(noted, row.Number); err != nil {
		e.Skip()
		return err
	}
	return nil
}
