// Package store keeps the records in SQLite: revisions, the draft, attempts, accounts, operators. Everything that
// speaks SQL is here. Attempts are written by one batching writer, so that no verdict waits for the disk.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned where a record was asked for that does not exist.
var ErrNotFound = errors.New("not found")

// ErrTaken is returned where a name is already in use.
var ErrTaken = errors.New("the name is already in use")

// Store is an open database.
type Store struct {
	db     *sqlx.DB // many readers
	single *sqlx.DB // the one writing connection

	checkpoints *checkpoints
}

// Open opens or creates the database in a data directory and brings it to the newest schema.
func Open(ctx context.Context, dir string) (*Store, error) {
	path := filepath.Join(dir, "tollgate.db")
	single, db, err := openFile(ctx, path, "synchronous(NORMAL)", "foreign_keys(1)", "cache_size(-32000)")
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, single: single, checkpoints: startCheckpoints(db, path)}
	if err := s.removeOldHits(time.Now()); err != nil {
		return nil, errors.Join(fmt.Errorf("removing old hits from the database %s: %w", path, err), s.Close())
	}
	return s, nil
}

// openFile opens or creates a database file and brings it to the newest schema of its kind: one writing connection, and
// readers.
func openFile(ctx context.Context, path string, pragmas ...string) (single, db *sqlx.DB, err error) {
	// SQLite gives its other files the rights of this one
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, nil, fmt.Errorf("opening the database %s: %w", path, err)
	} else if err := f.Close(); err != nil {
		return nil, nil, err
	}
	dsn := "file:" + path + "?_txlock=immediate"
	for _, p := range append([]string{"page_size(8192)", "journal_mode(WAL)", "busy_timeout(5000)",
		"wal_autocheckpoint(0)"}, pragmas...) {
		dsn += "&_pragma=" + p
	}
	if single, err = sqlx.Open("sqlite", dsn); err != nil {
		return nil, nil, fmt.Errorf("opening the database %s: %w", path, err)
	}
	single.SetMaxOpenConns(1)
	files, kind := fs.FS(migrations), "migrations"
	if filepath.Base(path) == journalFile {
		files, kind = journalMigrations, "journal"
	}
	steps, err := fs.Sub(files, kind)
	if err != nil {
		return nil, nil, errors.Join(err, single.Close())
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, single.DB, steps)
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err == nil {
		db, err = sqlx.Open("sqlite", dsn)
	}
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("bringing the database %s to the newest schema: %w", path, err),
			single.Close())
	}
	db.SetMaxOpenConns(4)
	return single, db, nil
}

// Close ends all use of the database.
func (s *Store) Close() error {
	s.checkpoints.stop()
	return errors.Join(s.db.Close(), s.single.Close())
}

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}
