package store

import (
	"context"
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

// countHits adds the attempts of a batch to the hits of the policies that decided them. Trials do not count.
func countHits(tx *sqlx.Tx, batch []*Attempt) error {
	sums := map[hit]counted{}
	for _, a := range batch {
		if a.PolicyID == "" || a.Trial {
			continue
		}
		at := a.At.UnixMilli()
		key := hit{a.PolicyID, a.Group, a.Revision, at / time.Hour.Milliseconds()}
		sum := sums[key]
		sums[key] = counted{sum.count + 1, max(sum.last, at)}
	}
	if len(sums) == 0 {
		return nil
	}
	stmt, err := tx.Prepare(`INSERT INTO hits (policy, grp, revision, hour, count, last) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET count = count + excluded.count, last = max(last, excluded.last)`)
	if err != nil {
		return err
	}
	defer stmt.Close()
	for key, sum := range sums {
		if _, err := stmt.Exec(key.policy, key.group, key.revision, key.hour, sum.count, sum.last); err != nil {
			return err
		}
	}
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
func (s *Store) Hits(ctx context.Context, revision int) ([]Hits, error) {
	var out []Hits
	err := s.db.SelectContext(ctx, &out,
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
func (s *Store) HitsByHour(ctx context.Context, since int64) ([]HourlyHits, error) {
	var out []HourlyHits
	err := s.db.SelectContext(ctx, &out,
		`SELECT policy, grp, hour, sum(count) AS count FROM hits WHERE hour >= ? GROUP BY policy, grp, hour`, since)
	return out, err
}

// removeOldHits forgets hits of long ago.
func (s *Store) removeOldHits(now time.Time) error {
	_, err := s.single.Exec("DELETE FROM hits WHERE hour < ?", now.Add(-hitsKept).UnixMilli()/time.Hour.Milliseconds())
	return err
}
