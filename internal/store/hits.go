package store

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
)

// hitsKept is how long hits are kept.
const hitsKept = 400 * 24 * time.Hour

// hit is what attempts are counted by.
type hit struct {
	policy, group string
	revision      int
	hour          int64
}

type counted struct{ count, last int64 }

// hitCounts are hits that are not in the database yet: a commit for each batch of attempts would wait for the disk.
type hitCounts struct {
	mu   sync.Mutex
	sums map[hit]counted
}

// count adds the attempts of a batch to the hits of the policies that decided them. Trials do not count.
func (h *hitCounts) count(batch []*Attempt) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, a := range batch {
		if a.PolicyID == "" || a.Trial {
			continue
		}
		at := a.At.UnixMilli()
		key := hit{a.PolicyID, a.Group, a.Revision, at / time.Hour.Milliseconds()}
		sum := h.sums[key]
		h.sums[key] = counted{sum.count + 1, max(sum.last, at)}
	}
}

// flush brings the counts into the database. If that fails they wait for the next time.
func (h *hitCounts) flush(ctx context.Context, s *Store) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.sums) == 0 {
		return nil
	}
	if err := s.here(ctx, func(tx *sqlx.Tx) error {
		for key, sum := range h.sums {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO hits (policy, grp, revision, hour, count, last) VALUES (?, ?, ?,
				?, ?, ?) ON CONFLICT DO UPDATE SET count = count + excluded.count, last = max(last, excluded.last)`,
				key.policy, key.group, key.revision, key.hour, sum.count, sum.last); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return fmt.Errorf("counting the hits of policies: %w", err)
	}
	clear(h.sums)
	return nil
}

// Hits is how often a policy, or a row of its table, decided.
type Hits struct {
	Policy string `db:"policy"`
	Group  string `db:"grp"`
	// Since counts those under the given revision, Before those under all others.
	Since  int64 `db:"since"`
	Before int64 `db:"before"`
	// Last is in milliseconds since 1970.
	Last int64 `db:"last"`
}

// Hits sums up the hits of all policies.
func (a *Attempts) Hits(ctx context.Context, revision int) ([]Hits, error) {
	if err := a.hits.flush(ctx, a.store); err != nil {
		return nil, err
	}
	var out []Hits
	err := a.store.db.SelectContext(ctx, &out,
		`SELECT policy, grp, sum(CASE WHEN revision = ?1 THEN count ELSE 0 END) AS since,
		sum(CASE WHEN revision = ?1 THEN 0 ELSE count END) AS before, max(last) AS last FROM hits GROUP BY policy, grp`, revision)
	return out, err
}

// HourlyHits is a count of one hour.
type HourlyHits struct {
	Policy string `db:"policy"`
	Group  string `db:"grp"`
	Hour   int64  `db:"hour"`
	Count  int64  `db:"count"`
}

// HitsByHour lists the hits of each hour since the given one, in hours since 1970.
func (a *Attempts) HitsByHour(ctx context.Context, since int64) ([]HourlyHits, error) {
	if err := a.hits.flush(ctx, a.store); err != nil {
		return nil, err
	}
	var out []HourlyHits
	err := a.store.db.SelectContext(ctx, &out,
		`SELECT policy, grp, hour, sum(count) AS count FROM hits WHERE hour >= ? GROUP BY policy, grp, hour`, since)
	return out, err
}

// removeOldHits forgets hits of long ago.
func (s *Store) removeOldHits(now time.Time) error {
	_, err := s.single.Exec(
		"DELETE FROM hits WHERE hour < ?",
		now.Add(-hitsKept).UnixMilli()/time.Hour.Milliseconds(),
	)
	return err
}
