package store

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
)

const (
	queueSize = 1 << 16
	batchSize = 2048
	// rowsPerStatement rows share one statement: fewer crossings into the database engine.
	rowsPerStatement = 32
	columnCount      = 16
)

// Writer records attempts in batches. Add never blocks: if the disk cannot keep up and the queue is full, the
// attempt is counted as lost, since a verdict never waits for the disk.
type Writer struct {
	store   *Store
	queue   chan *Attempt
	written func([]*Attempt)
	lost    atomic.Int64
	done    sync.WaitGroup
	idle    chan chan struct{}
}

// NewWriter starts the writer. The function is called with each batch after its commit, in order.
func (s *Store) NewWriter(written func([]*Attempt)) *Writer {
	w := &Writer{store: s, queue: make(chan *Attempt, queueSize), written: written, idle: make(chan chan struct{})}
	w.done.Go(w.run)
	return w
}

// Add hands an attempt to the writer, which owns it from then on.
func (w *Writer) Add(a *Attempt) {
	select {
	case w.queue <- a:
	default:
		w.lost.Add(1)
	}
}

// Lost counts attempts that could not be recorded.
func (w *Writer) Lost() int64 { return w.lost.Load() }

// Flush waits until everything added before is committed.
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
	for {
		select {
		case a, open := <-w.queue:
			if !open {
				return
			}
			batch = w.gather(append(batch[:0], a))
			w.commit(batch)
		case reached := <-w.idle:
			for batch = w.gather(batch[:0]); len(batch) > 0; batch = w.gather(batch[:0]) {
				w.commit(batch)
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

func (w *Writer) commit(batch []*Attempt) {
	if err := w.store.insert(batch); err != nil {
		w.lost.Add(int64(len(batch)))
		slog.Error("attempts could not be recorded", "count", len(batch), "error", err)
		time.Sleep(100 * time.Millisecond) // a full disk must not make a busy loop
		return
	}
	if w.written != nil {
		w.written(append([]*Attempt(nil), batch...))
	}
}

var row = "(" + strings.TrimSuffix(strings.Repeat("?,", columnCount), ",") + ")"

func insertSQL(rows int) string {
	return "INSERT INTO attempts (" + attemptColumns + ", facts) VALUES " + strings.TrimSuffix(strings.Repeat(row+",", rows), ",")
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
	return tx.Commit()
}

func insertRows(tx *sqlx.Tx, batch []*Attempt) error {
	args := make([]any, 0, rowsPerStatement*columnCount)
	for _, size := range []int{rowsPerStatement, 1} {
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
				args = append(args, int64(a.ID), a.Verdict, a.Reason, a.Client, a.Who, a.Sent, a.Display, a.MAC, a.Place, a.Lane, a.Policy, a.Pass, a.VLAN, a.Revision, a.Micros, a.Facts)
			}
			if _, err := stmt.Exec(args...); err != nil {
				return err
			}
			batch = batch[size:]
		}
	}
	return nil
}
