package record

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/sqlite"
)

// unit is a block behind the last segment.
type unit struct {
	ID   ident.ID `db:"id"`
	Last ident.ID `db:"last"`
	N    int      `db:"n"`
	// found is what its records are found by, nil where that is not at hand; since and until are as in the block then.
	found        *found
	since, until int64
}

// writer is the side of a keeper that writes. One goroutine uses it.
type writer[T any] struct {
	k                           *Keeper[T]
	conn                        *sqlx.Conn
	begin, end, back, add, gone *sql.Stmt
	encoder                     *encoder
	packer                      *packer
	log                         limitedLog
	last                        ident.ID // the highest identifier
	// tail are the blocks behind the last segment, in order, with as many records as waiting.
	tail    []unit
	waiting int
}

// newWriter reads how far an earlier one came.
func newWriter[T any](ctx context.Context, k *Keeper[T]) (*writer[T], error) {
	w := &writer[T]{k: k, encoder: newEncoder()}
	var err error
	if w.packer, err = newPacker(); err != nil {
		return nil, err
	}
	if w.conn, err = k.file.Write.Connx(ctx); err != nil {
		return nil, err
	}
	for to, text := range map[**sql.Stmt]string{&w.begin: "BEGIN IMMEDIATE", &w.end: "COMMIT", &w.back: "ROLLBACK",
		&w.add:  "INSERT INTO blocks (id, last, n, since, until, head, body) VALUES (?, ?, ?, ?, ?, ?, ?)",
		&w.gone: "DELETE FROM blocks WHERE id = ?"} {
		if *to, err = w.conn.PrepareContext(ctx, text); err != nil {
			return nil, errors.Join(fmt.Errorf("preparing %s: %w", k.file.Path, err), w.conn.Close())
		}
	}
	if err := w.resume(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("reading %s: %w", k.file.Path, err), w.conn.Close())
	}
	return w, nil
}

// resume reads what is in the file.
func (w *writer[T]) resume(ctx context.Context) error {
	var total int64
	var sealed ident.ID
	if err := w.conn.GetContext(ctx, &total,
		"SELECT coalesce(sum(n), 0) FROM blocks INDEXED BY blocks_in_time"); err != nil {
		return err
	}
	if err := w.conn.GetContext(ctx, &sealed, "SELECT coalesce(max(last), 0) FROM segments"); err != nil {
		return err
	}
	w.tail = nil
	if err := w.conn.SelectContext(ctx, &w.tail, "SELECT id, last, n FROM blocks WHERE id > ? ORDER BY id",
		sealed); err != nil {
		return err
	}
	w.k.total.Store(total)
	w.last, w.waiting = sealed, 0
	for _, u := range w.tail {
		w.last, w.waiting = u.Last, w.waiting+u.N
	}
	w.k.ids.Above(w.last)
	return nil
}

func (w *writer[T]) close() (err error) {
	for _, s := range []*sql.Stmt{w.begin, w.end, w.back, w.add, w.gone} {
		err = errors.Join(err, s.Close())
	}
	return errors.Join(err, w.conn.Close())
}

// within does something in one transaction, all of it or nothing.
func (w *writer[T]) within(do func() error) error {
	if _, err := w.begin.Exec(); err != nil {
		return err
	}
	err := do()
	if err == nil {
		_, err = w.end.Exec()
	}
	if err != nil {
		_, _ = w.back.Exec() // it may have happened already
	}
	return err
}

func (w *writer[T]) put(b *Block) error {
	if b.Body == nil {
		b.Body = []byte{}
	}
	_, err := w.add.Exec(int64(b.ID), int64(b.Last), b.N, b.Since, b.Until, b.Head, b.Body)
	return err
}

// insert commits records in their order and returns those that are kept: all, or none with the error. With them come
// the blocks that they are in.
func (w *writer[T]) insert(list []*T) ([]*T, []Block, error) {
	blocks, units, err := w.try(list)
	if sqlite.Taken(err) { // somebody else wrote into the file: identifiers above whatever is there
		if err = w.resume(context.Background()); err == nil {
			for _, r := range list {
				id, _ := w.k.kind.Key(r)
				*id = 0
			}
			blocks, units, err = w.try(list)
		}
	}
	if err != nil {
		return nil, nil, err
	}
	for _, u := range units {
		w.waiting += u.N
		w.last = u.Last
	}
	w.tail = append(w.tail, units...)
	w.k.ids.Above(w.last)
	return list, blocks, nil
}

// unit is that of a block that was just made.
func (w *writer[T]) unit(b *Block) unit {
	return unit{ID: b.ID, Last: b.Last, N: b.N, found: w.encoder.found(), since: b.Since, until: b.Until}
}

// try gives records their identifiers and commits them in one transaction.
func (w *writer[T]) try(list []*T) ([]Block, []unit, error) {
	blocks := make([]Block, 0, len(list)/blockSize+1)
	units := make([]unit, 0, cap(blocks))
	for _, part := range chunks(list) {
		for _, r := range part {
			id, at := w.k.kind.Key(r)
			if *id == 0 {
				*id = w.k.ids.New(*at)
			}
		}
		b := encode(w.encoder, w.packer, &w.k.kind, part)
		blocks, units = append(blocks, b), append(units, w.unit(&b))
	}
	return blocks, units, w.within(func() error {
		for i := range blocks {
			if err := w.put(&blocks[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// limitedLog logs a failure that comes again and again from time to time.
type limitedLog struct{ last time.Time }

// Error logs, unless something was logged shortly before.
func (l *limitedLog) Error(what string, err error, more ...any) {
	if now := time.Now(); now.Sub(l.last) >= logEvery {
		l.last = now
		slog.Error(what, append(more, "error", err)...)
	}
}
