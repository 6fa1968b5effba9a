// Package sqlite opens files of SQLite as this service uses them: one writing connection, readers beside it, a
// write-ahead log that is brought into the file a little at a time, and errors told apart by type.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

const readers = 4

// File is an open file.
type File struct {
	Path string
	// Read has many connections, Write the only one that writes.
	Read, Write *sqlx.DB

	checkpoints *checkpoints
}

// Open opens or creates a file and brings it to the newest schema by the steps in a directory. The pragmas are set on
// each connection, such as synchronous(FULL).
func Open(ctx context.Context, path string, schema fs.FS, steps string, pragmas ...string) (*File, error) {
	// SQLite gives its other files the rights of this one
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, fmt.Errorf("opening the database %s: %w", path, err)
	} else if err := f.Close(); err != nil {
		return nil, err
	}
	dsn := "file:" + path + "?_txlock=immediate"
	for _, p := range append([]string{"page_size(8192)", "auto_vacuum(INCREMENTAL)", "journal_mode(WAL)",
		"busy_timeout(5000)", "wal_autocheckpoint(0)", fmt.Sprintf("journal_size_limit(%d)", maxLog)}, pragmas...) {
		dsn += "&_pragma=" + p
	}
	write, err := sqlx.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("opening the database %s: %w", path, err)
	}
	write.SetMaxOpenConns(1)
	files, err := fs.Sub(schema, steps)
	if err != nil {
		return nil, errors.Join(err, write.Close())
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, write.DB, files)
	if err == nil {
		err = newest(ctx, provider)
	}
	var read *sqlx.DB
	if err == nil {
		read, err = sqlx.Open("sqlite", dsn)
	}
	if err != nil {
		// what is missing in a damaged file is made again, in vain
		if code(err) == lib.SQLITE_ERROR && !sound(ctx, write) {
			err = errors.Join(errDamaged, err)
		}
		return nil, errors.Join(fmt.Errorf("bringing the database %s to the newest schema: %w", path, explain(err)),
			write.Close())
	}
	read.SetMaxOpenConns(readers)
	return &File{path, read, write, startCheckpoints(read, path)}, nil
}

// newest brings a file to the newest schema, unless a newer version made it.
func newest(ctx context.Context, p *goose.Provider) error {
	have, known, err := p.GetVersions(ctx)
	if err != nil {
		return err
	}
	if have > known {
		return fmt.Errorf("a newer version of the service made this file: it has schema %d, and this version "+
			"knows %d. "+
			"Start the newer version, or restore a backup of this one", have, known)
	}
	_, err = p.Up(ctx)
	return err
}

// explain says what to do about an error that an operator can do something about.
func explain(err error) error {
	switch {
	case Damaged(err):
		return fmt.Errorf("the file is damaged. Restore a backup into an empty data directory with tollgated "+
			"-restore: %w",
			err)
	case code(err) == lib.SQLITE_READONLY || code(err) == lib.SQLITE_CANTOPEN || errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("the directory must let the service write: %w", err)
	case Full(err):
		return fmt.Errorf("the disk is full. Free some space: %w", err)
	}
	return err
}

// Close ends all use of the file.
func (f *File) Close() error {
	f.checkpoints.stop()
	f.checkpoints.mu.Lock() // the last to close brings the log into the file, which a copy must not see
	defer f.checkpoints.mu.Unlock()
	return errors.Join(f.Read.Close(), f.Write.Close())
}

// Size is what the file and its log take on the disk, in octets.
func (f *File) Size() (n int64) {
	for _, path := range []string{f.Path, f.Path + "-wal"} {
		if info, err := os.Stat(path); err == nil {
			n += info.Size()
		}
	}
	return n
}

// Name is the name of the file without its directory.
func (f *File) Name() string { return filepath.Base(f.Path) }

// code is the primary result code of an error of SQLite, or 0.
func code(err error) int {
	var failed *sqlite.Error
	if errors.As(err, &failed) {
		return failed.Code() & 0xff
	}
	return 0
}

// Taken reports that a value that must be unique is there already.
func Taken(err error) bool {
	var failed *sqlite.Error
	return errors.As(err, &failed) && (failed.Code() == lib.SQLITE_CONSTRAINT_UNIQUE ||
		failed.Code() == lib.SQLITE_CONSTRAINT_PRIMARYKEY || failed.Code() == lib.SQLITE_CONSTRAINT_ROWID)
}

// Full reports that the disk has no room.
func Full(err error) bool { return code(err) == lib.SQLITE_FULL }

var errDamaged = errors.New("it does not hold together")

// sound reports whether a file holds together.
func sound(ctx context.Context, db *sqlx.DB) bool {
	var first string
	return db.GetContext(ctx, &first, "PRAGMA quick_check(1)") == nil && first == "ok"
}

// Damaged reports that a file is not what was written to it.
func Damaged(err error) bool {
	return errors.Is(err, errDamaged) || code(err) == lib.SQLITE_CORRUPT || code(err) == lib.SQLITE_NOTADB
}

// Check looks whether a file that nobody has open holds together. A log beside it is brought into it.
func Check(ctx context.Context, path string) error {
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)")
	if err != nil {
		return err
	}
	var first string
	if err = db.GetContext(ctx, &first, "PRAGMA quick_check(1)"); err == nil && first != "ok" {
		err = fmt.Errorf("%w: %s", errDamaged, first)
	}
	if err = errors.Join(err, db.Close()); err != nil {
		return fmt.Errorf("checking %s: %w", path, err)
	}
	return nil
}
