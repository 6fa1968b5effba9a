package store

import (
	"context"
	"log/slog"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/base/ident"
)

const (
	queueSize = 1 << 16
	maxHold   = 10 * time.Millisecond
	batchSize = 2048
	// linger is how long a batch waits for more: fewer commits write the same pages fewer times.
	linger = 20 * time.Millisecond
	// breath is how long the writer rests after each step while it can keep up, so that it takes no core for
	// milliseconds from somebody who waits for an answer.
	breath      = 100 * time.Microsecond
	columnCount = 16
	// When nothing was queued, seenSteps times seenAtOnce attempts at a time are brought into the table seen; with more
	// than maxUnseen waiting for that, also under load, so that looking at each stays quick.
	restEvery = 200 * time.Millisecond
	// A step is short, since somebody may be waiting for an answer on the same core.
	seenAtOnce = 250
	seenSteps  = 16
	maxUnseen  = 200_000
)

// rowsAtOnce are the numbers of rows that share one statement: fewer crossings into the database engine.
var rowsAtOnce = [...]int{32, 8, 1}

// Writer records attempts in batches. If the disk cannot keep up and the queue is full, an attempt is counted as lost,
// since a verdict never waits for the disk; before that, with half of the queue taken, Add takes up to maxHold.
type Writer struct {
	store   *Store
	queue   chan *Attempt
	written func([]*Attempt)
	lost    atomic.Int64
	added   atomic.Int64
	done    sync.WaitGroup
	idle    chan chan struct{}
	ids     *ident.Source
	// unseen counts attempts that are not in the table seen yet.
	unseen int
}

// NewWriter starts the writer, which makes the identifiers. The function is called with each batch after its commit, in
// order.
func (s *Store) NewWriter(ids *ident.Source, written func([]*Attempt)) *Writer {
	w := &Writer{store: s, queue: make(chan *Attempt, queueSize), written: written, idle: make(chan chan struct{}),
		ids: ids, unseen: maxUnseen}
	w.done.Go(w.run)
	return w
}

// Add hands an attempt to the writer, which owns it from then on. Beyond half of the queue it holds up whoever adds,
// the longer the fuller it is, so that a flood slows down to what can be recorded before anything is lost.
func (w *Writer) Add(a *Attempt) {
	w.added.Add(1)
	if over := len(w.queue) - queueSize/2; over > 0 {
		time.Sleep(maxHold * time.Duration(over) / (queueSize / 2))
	}
	select {
	case w.queue <- a:
	default:
		w.lost.Add(1)
	}
}

// Added counts attempts that were handed over, recorded yet or not.
func (w *Writer) Added() int64 { return w.added.Load() }

// Lost counts attempts that could not be recorded.
func (w *Writer) Lost() int64 { return w.lost.Load() }

// Flush waits until everything added before is committed and indexed.
func (w *Writer) Flush(ctx context.Context) {
	reached := make(chan struct{})
	select {
	case w.idle <- reached:
	case <-ctx.Done():
		return
	}
	select {
	case <-reached:
	case <-ctx.Done():
	}
}

// Close commits what is queued and ends. Nothing may be added any more.
func (w *Writer) Close() {
	close(w.queue)
	w.done.Wait()
}

func (w *Writer) run() {
	batch := make([]*Attempt, 0, batchSize)
	rest := time.NewTicker(restEvery)
	defer rest.Stop()
	for {
		select {
		case <-rest.C:
			for step := 0; step < seenSteps && w.unseen > 0 && len(w.queue) == 0; step++ {
				w.index()
				time.Sleep(breath)
			}
		case a, open := <-w.queue:
			if !open {
				return
			}
			if batch = w.gather(append(batch[:0], a)); len(batch) < batchSize {
				time.Sleep(linger)
				batch = w.gather(batch)
			}
			w.commit(batch)
		case reached := <-w.idle:
			for batch = w.gather(batch[:0]); len(batch) > 0; batch = w.gather(batch[:0]) {
				w.commit(batch)
			}
			for w.unseen > 0 {
				w.index()
			}
			close(reached)
		}
	}
}

// gather takes what is queued, up to a whole batch, without waiting.
func (w *Writer) gather(batch []*Attempt) []*Attempt {
	for len(batch) < batchSize {
		select {
		case a, open := <-w.queue:
			if !open {
				return batch
			}
			batch = append(batch, a)
		default:
			return batch
		}
	}
	return batch
}

// index brings a part of what is new into the table seen.
func (w *Writer) index() {
	runtime.Gosched()
	n, err := w.store.indexSome(seenAtOnce)
	if err != nil {
		slog.Warn("attempts could not be indexed", "error", err)
	}
	if w.unseen -= n; n < seenAtOnce {
		w.unseen = 0
	}
}

func (w *Writer) commit(batch []*Attempt) {
	for _, a := range batch {
		a.ID = w.ids.New(a.At)
	}
	if err := w.store.insert(batch); err != nil {
		w.lost.Add(int64(len(batch)))
		slog.Error("attempts could not be recorded", "count", len(batch), "error", err)
		time.Sleep(100 * time.Millisecond) // a full disk must not make a busy loop
		return
	}
	if w.written != nil {
		w.written(append([]*Attempt(nil), batch...))
	}
	w.unseen += len(batch)
	for step := 0; step < seenSteps && w.unseen > maxUnseen; step++ {
		w.index()
	}
}

var row = "(" + strings.TrimSuffix(strings.Repeat("?,", columnCount), ",") + ")"

func insertSQL(rows int) string {
	// OR ROLLBACK needs no journal of the statement, since a failure ends the whole batch anyway.
	return "INSERT OR ROLLBACK INTO attempts (" + attemptColumns + ", facts) VALUES " +
		strings.TrimSuffix(strings.Repeat(row+",", rows), ",")
}

func (s *Store) insert(batch []*Attempt) error {
	tx, err := s.single.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := insertRows(tx, batch); err != nil {
		return err
	}
	if err := countHits(tx, batch); err != nil {
		return err
	}
	return tx.Commit()
}

func insertRows(tx *sqlx.Tx, batch []*Attempt) error {
	args, keepsUp := make([]any, 0, rowsAtOnce[0]*columnCount), len(batch) < batchSize/2
	for _, size := range rowsAtOnce {
		if len(batch) < size {
			continue
		}
		stmt, err := tx.Prepare(insertSQL(size))
		if err != nil {
			return err
		}
		defer stmt.Close()
		for len(batch) >= size {
			args = args[:0]
			for _, a := range batch[:size] {
				args = append(args, int64(a.ID), a.Verdict, a.Reason, a.Client, a.Who, a.Sent, a.Display, a.MAC,
					a.Place, a.Lane, a.Policy, a.Pass, a.VLAN, a.Revision, a.Micros, a.Facts)
			}
			if _, err := stmt.Exec(args...); err != nil {
				return err
			}
			batch = batch[size:]
			if keepsUp {
				time.Sleep(breath)
			} else {
				runtime.Gosched()
			}
		}
	}
	return nil
}

// indexSome brings up to limit attempts into the table seen, in the order of its keys, and tells how many.
func (s *Store) indexSome(limit int) (int, error) {
	tx, err := s.single.Beginx()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	var part struct {
		N    int   `db:"n"`
		From int64 `db:"from_id"`
		To   int64 `db:"to_id"`
	}
	err = tx.Get(&part, `SELECT count(*) AS n, (SELECT id FROM seen_until) AS from_id, coalesce(max(id), 0) AS to_id
		FROM (SELECT id FROM attempts WHERE id > (SELECT id FROM seen_until) ORDER BY id LIMIT ?)`, limit)
	if err != nil || part.N == 0 {
		return 0, err
	}
	if _, err = tx.Exec(
		`INSERT OR IGNORE INTO seen SELECT key, id FROM (SELECT who AS key, id FROM attempts WHERE id > ?1 AND id <= ?2
		UNION ALL SELECT mac, id FROM attempts WHERE id > ?1 AND id <= ?2 AND mac <> '') ORDER BY key, id`, part.From, part.To); err != nil {
		return 0, err
	}
	if _, err = tx.Exec("UPDATE seen_until SET id = ?", part.To); err != nil {
		return 0, err
	}
	return part.N, tx.Commit()
}
