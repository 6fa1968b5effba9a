package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// Apply brings entries of the log, in their order, into the file, in one transaction. It returns the records that
// changed and that nobody here knows of yet, for each entry.
func (s *Store) Apply(ctx context.Context, list []LogEntry) ([][]Touched, error) {
	h := s.shared.Load()
	if h == nil {
		return nil, errors.New("the database is not shared with other nodes")
	}
	t := taking{h: h, others: map[Touched]int64{}}
	out := make([][]Touched, len(list))
	err := s.here(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "PRAGMA defer_foreign_keys = ON"); err != nil {
			return err
		}
		applied, err := appliedIn(ctx, tx)
		if err != nil {
			return err
		}
		for i, one := range list {
			switch {
			case one.Number <= applied:
				continue
			case one.Number > applied+1:
				return fmt.Errorf("%w: %d follows %d", ErrGap, one.Number, applied)
			}
			if out[i], err = t.take(ctx, tx, one); err != nil {
				return err
			}
			applied, t.last = one.Number, one.Number
		}
		t.warn()
		return advance(ctx, tx, applied)
	})
	t.end(err)
	if err != nil || t.last == 0 {
		return nil, err
	}
	return out, nil
}

// taking is how entries are brought into the database.
type taking struct {
	h       *sharing
	last    int64
	settles []func(error)
	ours    map[string]*own
	others  map[Touched]int64
}

// take brings one entry into the database, and returns the records that changed and that nobody here knows of.
func (t *taking) take(ctx context.Context, tx *sqlx.Tx, one LogEntry) ([]Touched, error) {
	var e Shared
	if err := json.Unmarshal(one.Data, &e); err != nil {
		return nil, fmt.Errorf("entry %d of the log is damaged: %w", one.Number, err)
	}
	changed, err := t.h.store.apply(ctx, tx, &e)
	if err != nil {
		return nil, fmt.Errorf("entry %d of the log, by node %d: %w", one.Number, e.Node, err)
	}
	t.h.mu.Lock()
	mine := t.h.pending[one.ID]
	delete(t.h.pending, one.ID)
	t.h.mu.Unlock()
	if mine == nil {
		for _, c := range changed {
			t.others[c] = one.Number
		}
		return changed, appendLines(ctx, tx, e.Lines)
	}
	if t.ours == nil {
		t.ours = map[string]*own{}
	}
	t.ours[one.ID] = mine
	for _, r := range mine.requests { // those who asked for it know, but the audit does not
		settle, err := witness(r.ctx, tx)
		if err != nil {
			return nil, err
		}
		t.settles = append(t.settles, settle)
	}
	return nil, nil
}

// warn says, before anybody can see it in the database, what others changed: whoever looks there and knows an earlier
// state is told that it is one.
func (t *taking) warn() {
	t.h.mu.Lock()
	defer t.h.mu.Unlock()
	for c, n := range t.others {
		t.h.others[c] = n
	}
}

// end says that the entries are in the database, or gives everything back.
func (t *taking) end(err error) {
	for _, settle := range t.settles {
		settle(err)
	}
	t.h.mu.Lock()
	defer t.h.mu.Unlock()
	for id, mine := range t.ours {
		if err != nil {
			t.h.pending[id] = mine
		} else {
			close(mine.there)
		}
	}
	if err == nil && t.last > 0 {
		t.h.applied = t.last
		close(t.h.moved)
		t.h.moved = make(chan struct{})
	}
}
