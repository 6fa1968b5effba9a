package store

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// Revision is one published configuration. Times are milliseconds since 1970 throughout this file.
type Revision struct {
	Number   int    `db:"number"`
	At       int64  `db:"at"`
	Operator string `db:"operator"`
	Note     string `db:"note"`
	Changes  []byte `db:"changes"`
	Config   []byte `db:"config"`
}

// Draft is the one draft.
type Draft struct {
	At       int64  `db:"at"`
	Operator string `db:"operator"`
	Config   []byte `db:"config"`
	Authors  []byte `db:"authors"`
}

// Publish stores a new revision and the draft that follows from it, both or neither.
func (s *Store) Publish(ctx context.Context, r Revision, d Draft) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO revisions (number, at, operator, note, changes, config)
			VALUES (:number, :at, :operator, :note, :changes, :config)`, r); err != nil {
			return fmt.Errorf("storing revision %d: %w", r.Number, err)
		}
		return saveDraft(ctx, tx, d)
	})
}

type namedExec interface {
	NamedExecContext(ctx context.Context, query string, arg any) (sql.Result, error)
}

func saveDraft(ctx context.Context, db namedExec, d Draft) error {
	if _, err := db.NamedExecContext(ctx, `INSERT OR REPLACE INTO draft (only, at, operator, config, authors)
		VALUES (1, :at, :operator, :config, :authors)`, d); err != nil {
		return fmt.Errorf("storing the draft: %w", err)
	}
	return nil
}

// SaveDraft replaces the draft.
func (s *Store) SaveDraft(ctx context.Context, d Draft) error {
	return s.within(ctx, func(tx *sqlx.Tx) error { return saveDraft(ctx, tx, d) })
}

// Draft returns the draft, ErrNotFound if none was ever saved.
func (s *Store) Draft(ctx context.Context) (Draft, error) {
	var d Draft
	err := s.db.GetContext(ctx, &d, "SELECT at, operator, config, authors FROM draft")
	return d, notFound(err)
}

// Revision returns one revision; number 0 asks for the newest.
func (s *Store) Revision(ctx context.Context, number int) (Revision, error) {
	var r Revision
	query := "SELECT number, at, operator, note, changes, config FROM revisions "
	var err error
	if number == 0 {
		err = s.db.GetContext(ctx, &r, query+"ORDER BY number DESC LIMIT 1")
	} else {
		err = s.db.GetContext(ctx, &r, query+"WHERE number = ?", number)
	}
	return r, notFound(err)
}

// Revisions lists revisions from the newest, without their configuration; before is a cursor, 0 for the start.
func (s *Store) Revisions(ctx context.Context, before, limit int) ([]Revision, error) {
	out := []Revision{}
	err := s.db.SelectContext(ctx, &out, `SELECT number, at, operator, note, changes FROM revisions
		WHERE ? = 0 OR number < ? ORDER BY number DESC LIMIT ?`, before, before, limit)
	return out, err
}
