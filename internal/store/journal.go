package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/base/ident"
)

//go:embed journal/*.sql
var journalMigrations embed.FS

const journalFile = "journal.db"

// Entry is one entry of the gear journal.
type Entry struct {
	// At is when it was asked; Micros is that in microseconds since 1970, as it is kept.
	At      time.Time `db:"-"`
	ID      ident.ID  `db:"id"`
	Micros  int64     `db:"at"`
	Kind    string    `db:"kind"`
	Client  string    `db:"client"`
	Who     string    `db:"who"`
	Command string    `db:"command"`
	Verdict string    `db:"verdict"`
	Task    string    `db:"task"`
	More
	Rest []byte `db:"rest"`
}

// More is what of an entry nobody filters by; it is kept in one column, since each column costs with every entry.
type More struct {
	Display string `db:"-" json:"display,omitempty"`
	Origin  string `db:"-" json:"from,omitempty"`
	Port    string `db:"-" json:"port,omitempty"`
	Reason  string `db:"-" json:"reason,omitempty"`
	// Sentence says in words why something was refused.
	Sentence string   `db:"-" json:"sentence,omitempty"`
	Pass     string   `db:"-" json:"pass,omitempty"`
	Line     string   `db:"-" json:"line,omitempty"`
	Level    int      `db:"-" json:"level,omitempty"`
	Args     []string `db:"-" json:"args,omitempty"`
	Revision int      `db:"-" json:"revision,omitempty"`
	Trial    bool     `db:"-" json:"trial,omitempty"`
}

const (
	entryColumns = "id, at, kind, client, who, command, verdict, task, rest"
	entryCount   = 9
	// entriesAtOnce bounds a batch; those that wait together are committed together.
	entriesAtOnce = 512
	entriesQueued = 4096
	// yields is how often others may run before a batch is closed: a commit costs as much as fifteen entries, and
	// whoever is about to record something may come along. A timer would be too coarse for this.
	yields = 4
)

// ErrJournalClosed is returned for entries that come while the service stops.
var ErrJournalClosed = errors.New("the journal is closed")

// Journal is the record of what was done on network gear, in a file of its own. An entry that was recorded is on the
// disk, whatever happens to the machine.
type Journal struct {
	db, single  *sqlx.DB
	ids         *ident.Source
	written     func([]*Entry)
	queue       chan *pending
	closing     chan struct{}
	closed      sync.Once
	ended       chan struct{}
	done        sync.WaitGroup
	writing     statements
	checkpoints *checkpoints
	args        []any
	// remove asks the writer to remove old entries, since only it has the connection.
	remove chan removal
}

type removal struct {
	before ident.ID
	limit  int
	done   chan removed
}

type removed struct {
	n   int64
	err error
}

type pending struct {
	entry *Entry
	done  chan error
}

var waiting = sync.Pool{New: func() any { return make(chan error, 1) }}

// OpenJournal opens or creates the journal in a data directory. The function is called with each batch after its
// commit.
func OpenJournal(ctx context.Context, dir string, ids *ident.Source, written func([]*Entry)) (*Journal, error) {
	path := filepath.Join(dir, journalFile)
	single, db, err := openFile(ctx, path, "synchronous(FULL)", "cache_size(-16000)")
	if err != nil {
		return nil, err
	}
	j := &Journal{db: db, single: single, ids: ids, written: written, queue: make(chan *pending, entriesQueued),
		remove: make(chan removal), closing: make(chan struct{}), ended: make(chan struct{})}
	if err := j.prepare(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("preparing the journal %s: %w", path, err), db.Close(), single.Close())
	}
	j.done.Go(j.run)
	j.checkpoints = startCheckpoints(j.db, path)
	return j, nil
}

// Close commits what waits and closes the file.
func (j *Journal) Close() error {
	j.closed.Do(func() { close(j.closing) })
	j.checkpoints.stop()
	j.done.Wait()
	return errors.Join(j.writing.conn.Close(), j.db.Close(), j.single.Close())
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
			for range yields {
				runtime.Gosched()
			}
		case r := <-j.remove:
			r.done <- j.removeSome(r)
			continue
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
	return "INSERT OR ROLLBACK INTO journal (" + entryColumns + ") VALUES " +
		strings.TrimSuffix(strings.Repeat(entryRow+",", rows), ",")
}

// statements are compiled once; the journal has its one writing connection for itself.
type statements struct {
	conn                *sqlx.Conn
	begin, commit, back *sql.Stmt
	insert              [len(rowsAtOnce)]*sql.Stmt
}

func (j *Journal) prepare(ctx context.Context) (err error) {
	s := &j.writing
	if s.conn, err = j.single.Connx(ctx); err != nil {
		return err
	}
	for to, text := range map[**sql.Stmt]string{&s.begin: "BEGIN IMMEDIATE", &s.commit: "COMMIT", &s.back: "ROLLBACK"} {
		if *to, err = s.conn.PrepareContext(ctx, text); err != nil {
			return err
		}
	}
	for i, rows := range rowsAtOnce {
		if s.insert[i], err = s.conn.PrepareContext(ctx, entrySQL(rows)); err != nil {
			return err
		}
	}
	return nil
}

func (j *Journal) commit(batch []*pending) error {
	s := &j.writing
	if _, err := s.begin.Exec(); err != nil {
		return fmt.Errorf("writing the journal: %w", err)
	}
	for rest, i := batch, 0; len(rest) > 0; {
		size := rowsAtOnce[i]
		if len(rest) < size {
			i++
			continue
		}
		j.args = j.args[:0]
		for _, p := range rest[:size] {
			e := p.entry
			e.ID, e.Micros = j.ids.New(e.At), e.At.UnixMicro()
			var err error
			if e.Rest, err = json.Marshal(&e.More); err != nil {
				e.Rest = []byte("{}")
			}
			j.args = append(j.args, int64(e.ID), e.Micros, e.Kind, e.Client, e.Who, e.Command, e.Verdict, e.Task,
				string(e.Rest))
		}
		if _, err := s.insert[i].Exec(j.args...); err != nil {
			_, _ = s.back.Exec() // most likely it has happened already
			return fmt.Errorf("writing the journal: %w", err)
		}
		rest = rest[size:]
	}
	if _, err := s.commit.Exec(); err != nil {
		_, _ = s.back.Exec()
		return fmt.Errorf("writing the journal: %w", err)
	}
	return nil
}

// Entries lists entries from the newest to the oldest; with After alone, the oldest of the newer ones first.
func (j *Journal) Entries(ctx context.Context, f EntryFilter) ([]Entry, error) {
	where, args := f.conditions().where()
	order := "DESC"
	if f.After != 0 && f.Before == 0 {
		order = "ASC"
	}
	out := []Entry{}
	if err := j.db.SelectContext(ctx, &out, "SELECT "+entryColumns+" FROM journal"+where+" ORDER BY id "+order+
		" LIMIT ?", append(args, f.Limit)...); err != nil {
		return nil, fmt.Errorf("reading the journal: %w", err)
	}
	for i := range out {
		if err := json.Unmarshal(out[i].Rest, &out[i].More); err != nil {
			return nil, fmt.Errorf("reading entry %s of the journal: %w", out[i].ID, err)
		}
	}
	return out, nil
}

// RemoveEntries removes up to limit entries older than a moment and tells how many it removed.
func (j *Journal) RemoveEntries(ctx context.Context, before time.Time, limit int) (int64, error) {
	r := removal{before: ident.At(before), limit: limit, done: make(chan removed, 1)}
	select {
	case j.remove <- r:
		out := <-r.done
		return out.n, out.err
	case <-j.ended:
		return 0, ErrJournalClosed
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// removeSome is RemoveEntries on the writing connection.
func (j *Journal) removeSome(r removal) removed {
	result, err := j.writing.conn.ExecContext(context.Background(), "DELETE FROM journal WHERE id IN (SELECT id FROM "+
		"journal WHERE id < ? ORDER BY id LIMIT ?)", r.before, r.limit)
	if err != nil {
		return removed{0, fmt.Errorf("removing old entries of the journal: %w", err)}
	}
	n, err := result.RowsAffected()
	return removed{n, err}
}
