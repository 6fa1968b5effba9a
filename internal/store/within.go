package store

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/store/sqlite"
)

// within runs a transaction whose commit is on the disk when this returns, also through a power cut: a used code, a
// revocation, an account that was disabled or a published revision is not answered before it is there. What the Note of
// the context has to say is recorded with it. Where there are several nodes, it is in the log of all before, and do may
// run more than once; it changes shared tables only.
func (s *Store) within(ctx context.Context, do func(tx *sqlx.Tx) error) error {
	if h := s.shared.Load(); h != nil {
		return h.share(ctx, do)
	}
	if s.member.Load() { // while the log is not open: what is changed here alone would be another truth
		return ErrCutOff
	}
	return s.here(ctx, do)
}

// here is within for what is of this node alone.
func (s *Store) here(ctx context.Context, do func(tx *sqlx.Tx) error) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("waiting for the database: %w", err)
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return err
	}
	settle, err := witness(ctx, tx)
	if err != nil {
		return err
	}
	err = tx.Commit()
	settle(err)
	return err
}

// namedExec is one statement with named parameters, on the disk when it returns.
func (s *Store) namedExec(ctx context.Context, query string, arg any) (result sql.Result, err error) {
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		result, err = tx.NamedExecContext(ctx, query, arg)
		return err
	})
	return result, err
}

// exec runs a statement that must touch a record, and returns when that is on the disk.
func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, query, args...)
		return touched(result, err)
	})
}

// execHere is exec for what is of this node alone.
func (s *Store) execHere(ctx context.Context, query string, args ...any) error {
	return s.here(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, query, args...)
		return touched(result, err)
	})
}

// touched makes ErrNotFound of a statement that changed nothing.
func touched(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}

// taken tells a name that is in use from other errors.
func taken(err error) error {
	if sqlite.Taken(err) {
		return ErrTaken
	}
	return err
}
