package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"tollgate.example/key/internal/ident"
)

//go:embed journal/*.sql
var journalMigrations embed.FS

// Entry is one entry of the gear journal.
type Entry struct {
	// At is when it was asked; Micros is that in microseconds since 1970, as it is kept.
	At       time.Time `db:"-"`
	Micros   int64     `db:"at"`
	ID       ident.ID  `db:"id"`
	Kind     string    `db:"kind"`
	Client   string    `db:"client"`
	Who      string    `db:"who"`
	Display  string    `db:"display"`
	Origin   string    `db:"origin"`
	Port     string    `db:"port"`
	Command  string    `db:"command"`
	Verdict  string    `db:"verdict"`
	Reason   string    `db:"reason"`
	Pass     string    `db:"pass"`
	Line     string    `db:"line"`
	Level    int       `db:"level"`
	Task     string    `db:"task"`
	Args     []byte    `db:"args"`
	Revision int       `db:"revision"`
	Trial    bool      `db:"trial"`
}

const (
	entryColumns = "id, at, kind, client, who, display, origin, port, command, verdict, reason, pass, line, level, task, args, revision, trial"
	entryCount   = 18
	// entriesAtOnce bounds a batch; those that wait together are committed together.
	entriesAtOnce = 512
	entriesQueued = 4096
)

// ErrJournalClosed is returned for entries that come while the service stops.
var ErrJournalClosed = errors.New("the journal is closed")

// Journal is the record of what was done on network gear, in a file of its own. An entry that was recorded is on the disk,
// whatever happens to the machine.
type Journal struct {
	db, single *sqlx.DB
	ids        *ident.Source
	written    func([]*Entry)
	queue      chan *pending
	closing    chan struct{}
	closed     sync.Once
	ended      chan struct{}
	done       sync.WaitGroup
}

type pending struct {
	entry *Entry
	done  chan error
}

var waiting = sync.Pool{New: func() any { return make(chan error, 1) }}

// OpenJournal opens or creates the journal in a data directory. The function is called with each batch after its commit.
func OpenJournal(ctx context.Context, dir string, ids *ident.Source, written func([]*Entry)) (*Journal, error) {
	path := filepath.Join(dir, "journal.db")
	dsn := "file:" + path + "?_pragma=page_size(8192)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(5000)&_pragma=cache_size(-16000)&_pragma=wal_autocheckpoint(4000)&_txlock=immediate"
	single, err := sqlx.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("opening the journal %s: %w", path, err)
	}
	single.SetMaxOpenConns(1)
	dirFS, err := fs.Sub(journalMigrations, "journal")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, single.DB, dirFS)
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		single.Close()
		return nil, fmt.Errorf("bringing the journal %s to the newest schema: %w", path, err)
	}
	db, err := sqlx.Open("sqlite", dsn)
	if err != nil {
		single.Close()
		return nil, err
	}
	db.SetMaxOpenConns(2)
	j := &Journal{db: db, single: single, ids: ids, written: written, queue: make(chan *pending, entriesQueued), closing: make(chan struct{}), ended: make(chan struct{})}
	j.done.Go(j.run)
	return j, nil
}

// Close commits what waits and closes the file.
func (j *Journal) Close() error {
	j.closed.Do(func() { close(j.closing) })
	j.done.Wait()
	return errors.Join(j.db.Close(), j.single.Close())
}

// Record returns when the entry is on the disk, or could not be put there. Entries that wait together share a commit.
func (j *Journal) Record(ctx context.Context, e *Entry) error {
	p := &pending{e, waiting.Get().(chan error)}
	select {
	case j.queue <- p:
	case <-j.closing:
		return ErrJournalClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-p.done:
		waiting.Put(p.done)
		return err
	case <-j.ended:
		return ErrJournalClosed
	case <-ctx.Done(): // it may still be recorded; nobody is told that it was
		return ctx.Err()
	}
}

func (j *Journal) run() {
	defer close(j.ended)
	batch := make([]*pending, 0, entriesAtOnce)
	for {
		select {
		case p := <-j.queue:
			batch = append(batch[:0], p)
		case <-j.closing:
			for {
				select {
				case p := <-j.queue:
					p.done <- ErrJournalClosed
				default:
					return
				}
			}
		}
	gather:
		for len(batch) < entriesAtOnce {
			select {
			case p := <-j.queue:
				batch = append(batch, p)
			default:
				break gather
			}
		}
		err := j.commit(batch)
		for _, p := range batch {
			p.done <- err
		}
		if err == nil && j.written != nil {
			list := make([]*Entry, len(batch))
			for i, p := range batch {
				list[i] = p.entry
			}
			j.written(list)
		}
	}
}

var entryRow = "(" + strings.TrimSuffix(strings.Repeat("?,", entryCount), ",") + ")"

func entrySQL(rows int) string {
	return "INSERT OR ROLLBACK INTO journal (" + entryColumns + ") VALUES " + strings.TrimSuffix(strings.Repeat(entryRow+",", rows), ",")
}

func (j *Journal) commit(batch []*pending) error {
	tx, err := j.single.Beginx()
	if err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	defer tx.Rollback()
	args := make([]any, 0, rowsPerStatement*entryCount)
	for rest := batch; len(rest) > 0; {
		size := 1
		if len(rest) >= rowsPerStatement {
			size = rowsPerStatement
		}
		args = args[:0]
		for _, p := range rest[:size] {
			e := p.entry
			e.ID = j.ids.New(e.At)
			text := "[]"
			if len(e.Args) > 0 {
				text = string(e.Args)
			}
			e.Micros = e.At.UnixMicro()
			args = append(args, int64(e.ID), e.Micros, e.Kind, e.Client, e.Who, e.Display, e.Origin, e.Port, e.Command, e.Verdict, e.Reason, e.Pass, e.Line, e.Level, e.Task, text, e.Revision, e.Trial)
		}
		if _, err := tx.Exec(entrySQL(size), args...); err != nil {
			return fmt.Errorf("writing the journal: %w", err)
		}
		rest = rest[size:]
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	return nil
}

// EntryFilter selects entries. Empty fields select everything.
type EntryFilter struct {
	Who, Client, Kind, Verdict, Task string
	// Text is searched in command, person, client and arguments.
	Text          string
	Since, Until  time.Time
	Before, After ident.ID
	Limit         int
}

func (f *EntryFilter) where() (string, []any) {
	var parts []string
	var args []any
	add := func(part string, values ...any) {
		parts, args = append(parts, part), append(args, values...)
	}
	if who := strings.ToLower(f.Who); strings.Contains(who, "*") {
		add(`who LIKE ? ESCAPE '\'`, like(who))
	} else if who != "" {
		add("who = ?", who)
	}
	for _, c := range []struct{ column, value string }{{"client", f.Client}, {"kind", f.Kind}, {"verdict", f.Verdict}, {"task", f.Task}} {
		switch {
		case c.column == "kind" && c.value == "record": // what the gear reported
			add("kind IN ('start', 'stop', 'update')")
		case c.value != "":
			add(c.column+" = ?", c.value)
		}
	}
	if f.Text != "" {
		pattern := like("*" + f.Text + "*")
		add(`(command LIKE ? ESCAPE '\' OR who LIKE ? ESCAPE '\' OR display LIKE ? ESCAPE '\' OR client LIKE ? ESCAPE '\' OR args LIKE ? ESCAPE '\')`, pattern, pattern, pattern, pattern, pattern)
	}
	if !f.Since.IsZero() {
		add("id >= ?", ident.At(f.Since))
	}
	if !f.Until.IsZero() {
		add("id < ?", ident.At(f.Until))
	}
	if f.Before != 0 {
		add("id < ?", f.Before)
	}
	if f.After != 0 {
		add("id > ?", f.After)
	}
	if len(parts) == 0 {
		return "", nil
	}
	return " WHERE " + strings.Join(parts, " AND "), args
}

// Entries lists entries from the newest to the oldest; with After alone, the oldest of the newer ones first.
func (j *Journal) Entries(ctx context.Context, f EntryFilter) ([]Entry, error) {
	where, args := f.where()
	order := "DESC"
	if f.After != 0 && f.Before == 0 {
		order = "ASC"
	}
	out := []Entry{}
	if err := j.db.SelectContext(ctx, &out, "SELECT "+entryColumns+" FROM journal"+where+" ORDER BY id "+order+" LIMIT ?", append(args, f.Limit)...); err != nil {
		return nil, fmt.Errorf("reading the journal: %w", err)
	}
	return out, nil
}

// RemoveEntries removes up to limit entries older than a moment and tells how many it removed.
func (j *Journal) RemoveEntries(ctx context.Context, before time.Time, limit int) (int64, error) {
	result, err := j.single.ExecContext(ctx, "DELETE FROM journal WHERE id IN (SELECT id FROM journal WHERE id < ? ORDER BY id LIMIT ?)", ident.At(before), limit)
	if err != nil {
		return 0, fmt.Errorf("removing old entries of the journal: %w", err)
	}
	return result.RowsAffected()
}
