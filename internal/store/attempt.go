package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// Attempt is one recorded attempt.
type Attempt struct {
	// At is when it arrived; the writer makes the ID of it, in the order of recording.
	At       time.Time `db:"-"`
	ID       ident.ID  `db:"id"`
	Verdict  string    `db:"verdict"`
	Reason   string    `db:"reason"`
	Client   string    `db:"client"`
	Who      string    `db:"who"`
	Sent     string    `db:"sent"`
	Display  string    `db:"display"`
	MAC      string    `db:"mac"`
	Place    string    `db:"place"`
	Lane     string    `db:"lane"`
	Policy   string    `db:"policy"`
	Pass     string    `db:"pass"`
	VLAN     string    `db:"vlan"`
	Revision int       `db:"revision"`
	Micros   int64     `db:"micros"`
	Facts    []byte    `db:"facts"`

	// PolicyID and Group are the policy that decided, and the row of its table; Trial marks what an operator tried.
	// They only count hits.
	PolicyID string `db:"-"`
	Group    string `db:"-"`
	Trial    bool   `db:"-"`
}

const attemptColumns = "id, verdict, reason, client, who, sent, display, mac, place, lane, policy, pass, vlan, " +
	"revision, micros"

// Attempts lists attempts from the newest to the oldest, with facts only where the columns do not say how they ended.
// With After alone it lists the oldest of the newer ones first, which is what following needs.
func (s *Store) Attempts(ctx context.Context, f Filter) ([]Attempt, error) {
	where, args := f.conditions().where()
	order := "DESC"
	if f.After != 0 && f.Before == 0 {
		order = "ASC"
	}
	out := []Attempt{}
	query := "SELECT " + attemptColumns + ", CASE WHEN verdict = 'admitted' AND policy <> '' THEN NULL ELSE facts " +
		"END AS facts FROM attempts" + where + " ORDER BY id " + order + " LIMIT ?"
	if err := s.db.SelectContext(ctx, &out, query, append(args, f.Limit)...); err != nil {
		return nil, fmt.Errorf("listing attempts: %w", err)
	}
	return out, nil
}

// Attempt returns one attempt with its facts.
func (s *Store) Attempt(ctx context.Context, id ident.ID) (Attempt, error) {
	var a Attempt
	err := s.db.GetContext(ctx, &a, "SELECT "+attemptColumns+", facts FROM attempts WHERE id = ?", id)
	return a, notFound(err)
}

// CountAttempts counts the attempts of a time.
func (s *Store) CountAttempts(ctx context.Context, since, until time.Time) (int, error) {
	n := 0
	if err := s.db.GetContext(ctx, &n, "SELECT count(*) FROM attempts WHERE id >= ? AND id < ?", ident.At(since),
		ident.At(until)); err != nil {
		return 0, fmt.Errorf("counting attempts: %w", err)
	}
	return n, nil
}

// Recorded are the facts of one attempt.
type Recorded struct {
	ID    ident.ID `db:"id"`
	Facts []byte   `db:"facts"`
}

// FactsBefore returns the facts of the newest attempts of a time, the newest first.
func (s *Store) FactsBefore(ctx context.Context, since, until time.Time, limit int) ([]Recorded, error) {
	out := []Recorded{}
	if err := s.db.SelectContext(ctx, &out, "SELECT id, facts FROM attempts WHERE id >= ? AND id < ? ORDER BY id "+
		"DESC LIMIT ?", ident.At(since), ident.At(until), limit); err != nil {
		return nil, fmt.Errorf("reading the facts of attempts: %w", err)
	}
	return out, nil
}

// FactsAfter returns the facts of the attempts that follow one, the oldest first.
func (s *Store) FactsAfter(ctx context.Context, after ident.ID, until time.Time, limit int) ([]Recorded, error) {
	out := []Recorded{}
	if err := s.db.SelectContext(ctx, &out, "SELECT id, facts FROM attempts WHERE id > ? AND id < ? ORDER BY id "+
		"LIMIT ?", after, ident.At(until), limit); err != nil {
		return nil, fmt.Errorf("reading the facts of attempts: %w", err)
	}
	return out, nil
}

// Minute counts the attempts of one minute.
type Minute struct {
	Minute   int64 `db:"minute"` // minutes since 1970
	Admitted int   `db:"admitted"`
	Refused  int   `db:"refused"`
}

// CountByMinute counts attempts since a moment.
func (s *Store) CountByMinute(ctx context.Context, since time.Time) ([]Minute, error) {
	out := []Minute{}
	offset := ident.ID(0).Time().UnixMilli()
	err := s.db.SelectContext(ctx, &out,
		`SELECT ((id >> 22) + ?) / 60000 AS minute, sum(verdict = 'admitted') AS admitted,
		sum(verdict <> 'admitted') AS refused FROM attempts WHERE id >= ? GROUP BY minute`, offset, ident.At(since))
	return out, err
}

// RemoveAttempts removes up to limit attempts older than a moment and tells how many it removed.
func (s *Store) RemoveAttempts(ctx context.Context, before time.Time, limit int) (int64, error) {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return 0, fmt.Errorf("removing old attempts: %w", err)
	}
	defer tx.Rollback()
	var result sql.Result
	for _, query := range []string{
		"DELETE FROM seen WHERE (key, id) IN (SELECT who, id FROM attempts WHERE id < ? ORDER BY id LIMIT ?)",
		"DELETE FROM seen WHERE (key, id) IN (SELECT mac, id FROM attempts WHERE id < ? ORDER BY id LIMIT ?)",
		"DELETE FROM attempts WHERE id IN (SELECT id FROM attempts WHERE id < ? ORDER BY id LIMIT ?)",
	} {
		if result, err = tx.ExecContext(ctx, query, ident.At(before), limit); err != nil {
			return 0, fmt.Errorf("removing old attempts: %w", err)
		}
	}
	if err := tx.Commit(); err != nil {
		return 0, fmt.Errorf("removing old attempts: %w", err)
	}
	return result.RowsAffected()
}
