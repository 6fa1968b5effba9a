package record

import (
	"context"
	"fmt"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
)

const (
	// removedAtOnce is how many blocks are removed in one step, between which others go first.
	removedAtOnce = 16
	// usualShare is the part of the time that may be removed within a day: so much passes in a day, with some to spare.
	// A clock that is months ahead must not remove everything.
	usualShare  = 48 * time.Hour
	cleanEvery  = time.Minute
	shareWithin = 24 * time.Hour
	// freedAtOnce is how many free pages are given back in one step, of which the file keeps keptFree or a fifth of its
	// pages: what is removed now makes room for what comes next.
	freedAtOnce = 64
	keptFree    = 2048
)

// Retention is how long records are kept.
type Retention struct {
	// Keep is for how long; 0 is forever.
	Keep time.Duration
	// All removes whatever is older, even if it is more than a usual day's share.
	All bool
	// Now is the time; time.Now if it is nil.
	Now func() time.Time
	// Doubtful reports that the clock may be days ahead: nothing is removed because of its age meanwhile. nil is never.
	Doubtful func() bool
}

// Held says that more is older than records are kept than can have become so in a day.
type Held struct {
	// Records is how many are older; Oldest the time of the oldest, Until the time up to which they would be removed.
	Records       int64
	Oldest, Until time.Time
}

// removal is what a keeper knows of what it removes.
type removal struct {
	keep Retention
	next time.Time // when it looks again, by the monotonic clock

	begun time.Time // of the present day, by the monotonic clock
	floor time.Time // the time of the oldest record then

	mu   sync.Mutex
	held *Held
}

func (r *removal) now() time.Time {
	if r.keep.Now != nil {
		return r.keep.Now()
	}
	return time.Now()
}

// Held returns what is not removed although its time is over; nil if there is nothing.
func (k *Keeper[T]) Held() *Held {
	k.removal.mu.Lock()
	defer k.removal.mu.Unlock()
	return k.removal.held
}

// Remove removes what is older than a moment, up to so many blocks, and tells how many records that were. Blocks that
// hold newer records too stay.
func (k *Keeper[T]) Remove(ctx context.Context, before time.Time, blocks int) (n int64, err error) {
	err = k.do(ctx, func() error {
		n, err = k.w.remove(ctx, before, blocks)
		return err
	})
	return n, err
}

// RemoveOldest removes up to so many blocks, whatever their age, and tells how many records that were.
func (k *Keeper[T]) RemoveOldest(ctx context.Context, blocks int) (n int64, err error) {
	err = k.do(ctx, func() error {
		n, err = k.w.remove(ctx, time.UnixMicro(1<<62), blocks)
		return err
	})
	return n, err
}

// clean does one step of removing what is over, and of giving room back, and reports whether there was one.
func (k *Keeper[T]) clean(ctx context.Context) bool {
	r := &k.removal
	if time.Now().Before(r.next) {
		return false
	}
	n := int64(0)
	if r.keep.Keep > 0 {
		cutoff, err := k.cutoff(ctx)
		if err == nil {
			n, err = k.w.remove(ctx, cutoff, removedAtOnce)
		}
		if err != nil {
			k.w.log.Error("old records could not be removed", err, "file", k.file.Name())
			r.next = time.Now().Add(cleanEvery)
			return false
		}
	}
	if n > 0 || k.w.shrink(ctx) {
		return true
	}
	r.next = time.Now().Add(cleanEvery)
	return false
}

// cutoff is the time before which records are removed now.
func (k *Keeper[T]) cutoff(ctx context.Context) (time.Time, error) {
	r := &k.removal
	wanted := r.now().Add(-r.keep.Keep)
	if r.keep.All {
		return wanted, nil
	}
	oldest, err := k.w.oldest(ctx)
	if err != nil {
		return time.Time{}, err
	}
	if r.begun.IsZero() || time.Since(r.begun) >= shareWithin {
		r.begun, r.floor = time.Now(), oldest
	}
	allowed := r.floor.Add(usualShare)
	if r.keep.Doubtful != nil && r.keep.Doubtful() {
		allowed = time.Time{}
	}
	var held *Held
	if oldest.Before(wanted) && allowed.Before(wanted) {
		held = &Held{Oldest: oldest, Until: wanted}
		if err := k.w.conn.GetContext(ctx, &held.Records, "SELECT coalesce(sum(n), 0) FROM blocks WHERE until < ?",
			wanted.UnixMicro()); err != nil {
			return time.Time{}, err
		}
		wanted = allowed
	}
	r.mu.Lock()
	r.held = held
	r.mu.Unlock()
	return wanted, nil
}

// oldest is the time of the oldest records: the end of the first block, by time.
func (w *writer[T]) oldest(ctx context.Context) (time.Time, error) {
	var until int64
	err := w.conn.GetContext(ctx, &until, "SELECT coalesce((SELECT until FROM blocks ORDER BY until LIMIT 1), 0)")
	if until == 0 {
		return w.k.removal.now(), err
	}
	return time.UnixMicro(until), err
}

// remove removes up to so many blocks whose records are all older than a moment, and the segments that have none left.
func (w *writer[T]) remove(ctx context.Context, before time.Time, blocks int) (n int64, err error) {
	var old []unit
	if err := w.conn.SelectContext(ctx, &old, "SELECT id, last, n FROM blocks WHERE until < ? ORDER BY until LIMIT ?",
		before.UnixMicro(), blocks); err != nil || len(old) == 0 {
		return 0, err
	}
	removed := make(map[ident.ID]bool, len(old))
	err = w.within(func() error {
		for _, u := range old {
			if _, err := w.gone.ExecContext(ctx, int64(u.ID)); err != nil {
				return err
			}
			removed[u.ID] = true
			n += int64(u.N)
		}
		const over = "SELECT id FROM segments WHERE last < (SELECT coalesce(min(id), 1 << 62) FROM blocks)"
		if _, err := w.conn.ExecContext(ctx, "DELETE FROM terms WHERE segment IN ("+over+")"); err != nil {
			return err
		}
		_, err := w.conn.ExecContext(ctx, "DELETE FROM segments WHERE id IN ("+over+")")
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("removing old records: %w", err)
	}
	w.k.total.Add(-n)
	kept := w.tail[:0]
	for _, u := range w.tail {
		if removed[u.ID] {
			w.waiting -= u.N
		} else {
			kept = append(kept, u)
		}
	}
	w.tail = kept
	return n, nil
}

// shrink gives some free pages of the file back to the disk, and reports whether there may be more.
func (w *writer[T]) shrink(ctx context.Context) bool {
	var free, pages int
	if w.conn.GetContext(ctx, &free, "PRAGMA freelist_count") != nil ||
		w.conn.GetContext(ctx, &pages, "PRAGMA page_count") != nil || free <= max(keptFree, pages/5) {
		return false
	}
	_, err := w.conn.ExecContext(ctx, fmt.Sprintf("PRAGMA incremental_vacuum(%d)", freedAtOnce))
	return err == nil
}

// Shrink gives all free pages of the file back to the disk.
func (k *Keeper[T]) Shrink(ctx context.Context) error {
	if err := k.do(ctx, func() error {
		_, err := k.w.conn.ExecContext(ctx, "PRAGMA incremental_vacuum")
		return err
	}); err != nil {
		return fmt.Errorf("giving room back to the disk: %w", err)
	}
	return k.file.Checkpoint(ctx)
}
