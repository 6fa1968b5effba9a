// Package store keeps the records in SQLite: revisions, the draft, accounts, operators and more in one file, attempts
// and the gear journal in a file each (store/record). Everything that speaks SQL is here and below.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/store/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned where a record was asked for that does not exist.
var ErrNotFound = record.ErrNotFound

// ErrTaken is returned where a name is already in use.
var ErrTaken = errors.New("the name is already in use")

// Store is an open database.
type Store struct {
	db     *sqlx.DB // many readers
	single *sqlx.DB // the one writing connection
	file   *sqlite.File
	tables map[string]*sharedTable
	// member tells that the file is one of several nodes: its shared tables change through the log or not at all.
	// shared is the way there, nil while it is not open.
	member atomic.Bool
	shared atomic.Pointer[sharing]
}

// Open opens or creates the database in a data directory and brings it to the newest schema.
func Open(ctx context.Context, dir string) (*Store, error) {
	path := filepath.Join(dir, "tollgate.db")
	file, err := sqlite.Open(ctx, path, migrations, "migrations", "synchronous(FULL)", "foreign_keys(1)",
		"cache_size(-32000)")
	if err != nil {
		return nil, err
	}
	s := &Store{file: file, db: file.Read, single: file.Write}
	if s.tables, err = describe(ctx, s.db); err != nil {
		return nil, errors.Join(fmt.Errorf("the database %s: %w", path, err), s.Close())
	}
	if _, err := s.SharedState(ctx); err == nil {
		s.member.Store(true)
	} else if !errors.Is(err, ErrNotFound) {
		return nil, errors.Join(fmt.Errorf("the database %s: %w", path, err), s.Close())
	}
	if err := s.removeOldHits(time.Now()); err != nil {
		return nil, errors.Join(fmt.Errorf("removing old hits from the database %s: %w", path, err), s.Close())
	}
	return s, nil
}

// Close ends all use of the database.
func (s *Store) Close() error { return s.file.Close() }

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// File is the open file.
func (s *Store) File() *sqlite.File { return s.file }
