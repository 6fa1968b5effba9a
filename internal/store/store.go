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
}

// Open opens or creates the database in a data directory and brings it to the newest schema.
func Open(ctx context.Context, dir string) (*Store, error) {
	path := filepath.Join(dir, "tollgate.db")
	dsn := "file:" + path + "?_pragma=page_size(8192)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=busy_timeout(5000)&_pragma=foreign_keys(1)&_pragma=cache_size(-32000)&_pragma=wal_autocheckpoint(8000)&_txlock=immediate"
	single, err := sqlx.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("opening the database %s: %w", path, err)
	}
	single.SetMaxOpenConns(1)
	dirFS, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, single.DB, dirFS)
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		single.Close()
		return nil, fmt.Errorf("bringing the database %s to the newest schema: %w", path, err)
	}
	db, err := sqlx.Open("sqlite", dsn)
	if err != nil {
		single.Close()
		return nil, err
	}
	db.SetMaxOpenConns(4)
	s := &Store{db: db, single: single}
	return s, s.removeOldHits(time.Now())
}

// Close ends all use of the database.
func (s *Store) Close() error {
	return errors.Join(s.db.Close(), s.single.Close())
}

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}
