package store

import (
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// durably runs a transaction whose commit is on the disk when this returns, also through a power cut. Attempts, which
// come in thousands and prevent nothing, are written without waiting for the disk; a used code, a revocation, an
// account that was disabled or a published revision is not answered before it is there.
func (s *Store) durably(ctx context.Context, do func(tx *sqlx.Tx) error) (err error) {
	conn, err := s.single.Connx(ctx) // the only one that writes, so nobody else sees the setting
	if err != nil {
		return fmt.Errorf("waiting for the database: %w", err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "PRAGMA synchronous = FULL"); err != nil {
		return fmt.Errorf("asking for a durable commit: %w", err)
	}
	defer func() {
		if _, wrong := conn.ExecContext(context.WithoutCancel(ctx), "PRAGMA synchronous = NORMAL"); wrong != nil {
			err = errors.Join(err, fmt.Errorf("ending durable commits: %w", wrong))
		}
	}()
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// durableExec is one statement with named parameters, on the disk when it returns.
func (s *Store) durableExec(ctx context.Context, query string, arg any) (result sql.Result, err error) {
	err = s.durably(ctx, func(tx *sqlx.Tx) error {
		result, err = tx.NamedExecContext(ctx, query, arg)
		return err
	})
	return result, err
}

// exec runs a statement that must touch a record, and returns when that is on the disk.
func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	return s.durably(ctx, func(tx *sqlx.Tx) error {
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
	var failed *sqlite.Error
	if errors.As(err, &failed) && failed.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE {
		return ErrTaken
	}
	return err
}
