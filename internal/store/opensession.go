package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/sqlite"
)

//go:embed sessions/*.sql
var sessionSteps embed.FS

// OpenSessions keeps the sessions that are open, in a file of its own: it is written all the time, and everything in it
// can be made again from accounting.
type OpenSessions struct{ file *sqlite.File }

// OpenOpenSessions opens or creates the file in a data directory. A damaged one is removed, since it can be made again.
func OpenOpenSessions(ctx context.Context, dir string) (*OpenSessions, error) {
	path := filepath.Join(dir, "sessions.db")
	open := func() (*sqlite.File, error) {
		return sqlite.Open(ctx, path, sessionSteps, "sessions", "synchronous(NORMAL)", "cache_size(-8000)")
	}
	file, err := open()
	if sqlite.Damaged(err) {
		slog.Error("the file of open sessions is damaged; it is made again from accounting", "file", path, "error", err)
		for _, more := range []string{"", "-wal", "-shm"} {
			if err := os.Remove(path + more); err != nil && !errors.Is(err, os.ErrNotExist) {
				return nil, fmt.Errorf("removing the damaged file %s: %w", path+more, err)
			}
		}
		file, err = open()
	}
	if err != nil {
		return nil, err
	}
	return &OpenSessions{file}, nil
}

// Load calls a function with each open session, in the order of their identifiers, and returns the last record that
// they contain, 0 if there is none.
func (o *OpenSessions) Load(ctx context.Context, each func(id ident.ID, data []byte) error) (ident.ID, error) {
	rows, err := o.file.Read.QueryContext(ctx, "SELECT id, data FROM open_sessions ORDER BY id")
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var data []byte
		if err := rows.Scan(&id, &data); err != nil {
			return 0, err
		}
		if err := each(ident.ID(id), data); err != nil {
			return 0, err
		}
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	var last int64
	if err := notFound(o.file.Read.GetContext(ctx, &last, "SELECT last FROM applied")); err != nil &&
		!errors.Is(err, ErrNotFound) {
		return 0, err
	}
	return ident.ID(last), nil
}

// Changed is what changed of one open session; no data removes it.
type Changed struct {
	ID   ident.ID
	Data []byte
}

// saveStep bounds what one transaction writes, so that nobody waits long for it.
const saveStep = 2000

// Save writes changes, and up to which record they go.
func (o *OpenSessions) Save(ctx context.Context, applied ident.ID, list []Changed) error {
	for len(list) > saveStep {
		if err := o.save(ctx, 0, list[:saveStep]); err != nil {
			return err
		}
		list = list[saveStep:]
		time.Sleep(time.Millisecond)
	}
	return o.save(ctx, applied, list)
}

func (o *OpenSessions) save(ctx context.Context, applied ident.ID, list []Changed) error {
	tx, err := o.file.Write.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	put, err := tx.PreparexContext(ctx, "INSERT OR REPLACE INTO open_sessions (id, data) VALUES (?, ?)")
	if err != nil {
		return err
	}
	remove, err := tx.PreparexContext(ctx, "DELETE FROM open_sessions WHERE id = ?")
	if err != nil {
		return err
	}
	for _, c := range list {
		if c.Data == nil {
			_, err = remove.ExecContext(ctx, int64(c.ID))
		} else {
			_, err = put.ExecContext(ctx, int64(c.ID), c.Data)
		}
		if err != nil {
			return err
		}
	}
	if applied != 0 {
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO applied (only, last) VALUES (1, ?)",
			int64(applied)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// File is the open file.
func (o *OpenSessions) File() *sqlite.File { return o.file }

// Close closes the file.
func (o *OpenSessions) Close() error { return o.file.Close() }
