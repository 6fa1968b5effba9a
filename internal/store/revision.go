package store

import (
	"context"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Revision is one published configuration. Times are milliseconds since 1970 throughout this file.
type Revision struct {
	Number   int    `db:"number"`
	At       int64  `db:"at"`
	Operator string `db:"operator"`
	Note     string `db:"note"`
	Changes  []byte `db:"changes"`
	// Config is the whole configuration of a revision that was published before there were rows of objects; empty
	// otherwise.
	Config []byte `db:"config"`
}

// Object is one object of a configuration. Body is nil for one that is not there any more.
type Object struct {
	Kind string `db:"kind"`
	ID   string `db:"id"`
	Body []byte `db:"body"`
}

// DraftObject is an object in which the draft differs from the newest revision, and who changed it last.
type DraftObject struct {
	Object
	Operator string `db:"operator"`
	At       int64  `db:"at"`
}

// Publish stores a new revision by the objects in which it differs from the one before. The draft becomes the same.
func (s *Store) Publish(ctx context.Context, r Revision, objects []Object) error {
	if r.Config == nil {
		r.Config = []byte{}
	}
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO revisions (number, at, operator, note, changes, config)
			VALUES (:number, :at, :operator, :note, :changes, :config)`, r); err != nil {
			return fmt.Errorf("storing revision %d: %w", r.Number, err)
		}
		if err := replaceObjects(ctx, tx, r.Number, objects); err != nil {
			return fmt.Errorf("storing the objects of revision %d: %w", r.Number, err)
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM asked"); err != nil {
			return fmt.Errorf("removing what was asked for: %w", err)
		}
		return discardDraft(ctx, tx)
	})
}

// Asked is what somebody asks another one to publish.
type Asked struct {
	Operator string `db:"operator"` // identifier
	Name     string `db:"name"`
	At       int64  `db:"at"`
	Note     string `db:"note"`
	Digest   string `db:"digest"`
	Revision int    `db:"revision"`
}

// Ask stores what somebody asks for, in place of what was asked before.
func (s *Store) Ask(ctx context.Context, a Asked) error {
	_, err := s.namedExec(ctx, `INSERT OR REPLACE INTO asked (only, operator, name, at, note, digest, revision)
		VALUES (1, :operator, :name, :at, :note, :digest, :revision)`, a)
	return err
}

// Asked returns what is asked for, ErrNotFound if nothing is.
func (s *Store) Asked(ctx context.Context) (a Asked, err error) {
	err = s.db.GetContext(ctx, &a, "SELECT operator, name, at, note, digest, revision FROM asked")
	return a, notFound(err)
}

// Withdraw forgets what is asked for.
func (s *Store) Withdraw(ctx context.Context) error { return s.exec(ctx, "DELETE FROM asked") }

// replaceObjects ends the present form of objects with a revision, and begins their next one.
func replaceObjects(ctx context.Context, tx *sqlx.Tx, number int, objects []Object) error {
	end, err := tx.PreparexContext(ctx, "UPDATE objects SET until = ? WHERE kind = ? AND id = ? AND until IS NULL")
	if err != nil {
		return err
	}
	defer end.Close()
	var values []any
	for _, o := range objects {
		if number > 1 { // before the first revision there is nothing to end
			if _, err := end.ExecContext(ctx, number, o.Kind, o.ID); err != nil {
				return err
			}
		}
		if o.Body != nil {
			values = append(values, o.Kind, o.ID, number, o.Body)
		}
	}
	return insert(ctx, tx, "INSERT INTO objects (kind, id, since, body) VALUES ", 4, values)
}

// atOnce is how many rows one statement inserts.
const atOnce = 50

// insert inserts rows of so many columns, whose values follow one another.
func insert(ctx context.Context, tx *sqlx.Tx, statement string, columns int, values []any) error {
	row := ", (" + strings.Repeat(", ?", columns)[2:] + ")"
	for size := atOnce; len(values) > 0; size = min(size, len(values)/columns) {
		if len(values) < size*columns {
			continue
		}
		many, err := tx.PreparexContext(ctx, statement+strings.Repeat(row, size)[2:])
		if err != nil {
			return err
		}
		for len(values) >= size*columns && err == nil {
			_, err = many.ExecContext(ctx, values[:size*columns]...)
			values = values[size*columns:]
		}
		many.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func discardDraft(ctx context.Context, tx *sqlx.Tx) error {
	for _, table := range []string{"draft_objects", "draft"} {
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+table); err != nil {
			return fmt.Errorf("discarding the draft: %w", err)
		}
	}
	return nil
}

// SaveDraft stores objects of the draft that were changed.
func (s *Store) SaveDraft(ctx context.Context, objects []DraftObject) error {
	return s.within(ctx, func(tx *sqlx.Tx) error { return saveDraft(ctx, tx, objects) })
}

func saveDraft(ctx context.Context, tx *sqlx.Tx, objects []DraftObject) error {
	values := make([]any, 0, 5*len(objects))
	for _, o := range objects {
		values = append(values, o.Kind, o.ID, o.Body, o.Operator, o.At)
	}
	if err := insert(ctx, tx, "INSERT OR REPLACE INTO draft_objects (kind, id, body, operator, at) VALUES ", 5,
		values); err != nil {
		return fmt.Errorf("storing the draft: %w", err)
	}
	return nil
}

// DiscardDraft makes the draft the same as the newest revision.
func (s *Store) DiscardDraft(ctx context.Context) error {
	return s.within(ctx, func(tx *sqlx.Tx) error { return discardDraft(ctx, tx) })
}

// Draft lists in what the draft differs from the newest revision.
func (s *Store) Draft(ctx context.Context) ([]DraftObject, error) {
	var out []DraftObject
	err := s.db.SelectContext(ctx, &out, "SELECT kind, id, body, operator, at FROM draft_objects ORDER BY kind, id")
	return out, err
}

// Objects lists the objects of a revision, by kind and identifier; none if its configuration is in its own row.
func (s *Store) Objects(ctx context.Context, number int) ([]Object, error) {
	var out []Object
	err := s.db.SelectContext(ctx, &out, `SELECT kind, id, body FROM objects WHERE since <= ? AND
		(until IS NULL OR until > ?) ORDER BY kind, id`, number, number)
	return out, err
}

// Whole is a draft of the versions that kept it in one row.
type Whole struct {
	Config  []byte `db:"config"`
	Authors []byte `db:"authors"`
}

// WholeDraft returns the draft that an earlier version left, ErrNotFound if there is none.
func (s *Store) WholeDraft(ctx context.Context) (Whole, error) {
	var d Whole
	err := s.db.GetContext(ctx, &d, "SELECT config, authors FROM draft")
	return d, notFound(err)
}

// Divide puts the objects of the newest revision and of the draft, which an earlier version kept whole, into rows of
// their own.
func (s *Store) Divide(ctx context.Context, number int, objects []Object, draft []DraftObject) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if err := replaceObjects(ctx, tx, number, objects); err != nil {
			return fmt.Errorf("storing the objects of revision %d: %w", number, err)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE revisions SET config = x'' WHERE number = ?", number); err != nil {
			return fmt.Errorf("storing the objects of revision %d: %w", number, err)
		}
		if err := discardDraft(ctx, tx); err != nil {
			return err
		}
		return saveDraft(ctx, tx, draft)
	})
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
