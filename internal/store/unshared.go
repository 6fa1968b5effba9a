package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
)

// softly is within for changes that must not fail while no majority of the nodes can be reached: they are made here
// alone then, and shared when one can be.
func (s *Store) softly(ctx context.Context, do func(tx *sqlx.Tx) error) error {
	err := s.within(ctx, do)
	if !errors.Is(err, ErrCutOff) {
		return err
	}
	return s.alone(ctx, do)
}

// alone makes a change here alone, and notes the rows that are to be shared.
func (s *Store) alone(ctx context.Context, do func(tx *sqlx.Tx) error) error {
	h, told := s.shared.Load(), int64(0)
	if h != nil {
		told = h.told.Load()
	}
	conn, err := s.single.Connx(ctx)
	if err != nil {
		return fmt.Errorf("waiting for the database: %w", err)
	}
	defer conn.Close()
	rows := touchedRows{}
	if err := watch(ctx, conn, s.tables, &rows); err != nil {
		return err
	}
	defer watch(context.WithoutCancel(ctx), conn, nil, nil)
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("waiting for the database: %w", err)
	}
	defer tx.Rollback()
	// What the change touches is known only afterwards, and what it was before only before: so it is tried first.
	if _, err := tx.ExecContext(ctx, "SAVEPOINT change"); err != nil {
		return err
	}
	if err := errors.Join(do(tx), rollback(ctx, tx)); err != nil {
		return err
	}
	if table := rows.own(); table != "" {
		return fmt.Errorf("the change of shared tables touches %s, which is of this node alone", table)
	}
	if h != nil && h.conflict(&request{told: told}, rows) {
		return ErrChanged
	}
	before, err := s.pictures(ctx, tx, rows)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return err
	}
	after, err := s.pictures(ctx, tx, rows)
	if err != nil {
		return err
	}
	for id, picture := range after {
		if _, err := tx.ExecContext(ctx, "INSERT INTO unshared (tbl, id, at, base, here) VALUES (?, ?, ?, ?, ?) ON "+
			"CONFLICT (tbl, id) DO UPDATE SET here = excluded.here", id.table, id.key, time.Now().UnixMilli(),
			before[id], picture); err != nil {
			return err
		}
	}
	settle, err := witness(ctx, tx)
	if err != nil {
		return err
	}
	err = tx.Commit()
	settle(err)
	return err
}

// pictures are rows as JSON.
func (s *Store) pictures(ctx context.Context, tx *sqlx.Tx, rows touchedRows) (map[rowID]string, error) {
	out := map[rowID]string{}
	for id := range rows {
		list, err := images(ctx, tx, s.tables, touchedRows{id: true})
		if err != nil {
			return nil, err
		}
		text, err := json.Marshal(list[0])
		if err != nil {
			return nil, err
		}
		out[id] = string(text)
	}
	return out, nil
}

// Unshared is a row that was changed here alone.
type Unshared struct {
	Table string `db:"tbl"`
	ID    string `db:"id"`
	At    int64  `db:"at"`
	Base  string `db:"base"`
	Here  string `db:"here"`
}

// Unshared lists the rows that were changed here alone and are still to be shared.
func (s *Store) Unshared(ctx context.Context) ([]Unshared, error) {
	var out []Unshared
	err := s.db.SelectContext(ctx, &out, "SELECT tbl, id, at, base, here FROM unshared ORDER BY at")
	return out, err
}

// ShareAgain shares a row that was changed here alone, if no other node changed it meanwhile; if one did, theirs
// stands, and it reports false.
func (s *Store) ShareAgain(ctx context.Context, u Unshared) (bool, error) {
	h := s.shared.Load()
	if h == nil || s.tables[u.Table] == nil {
		return false, s.forget(ctx, u)
	}
	id, ours := rowID{u.Table, u.ID}, true
	now, err := s.picture(ctx, id)
	if err == nil && now == u.Here {
		err = h.share(ctx, func(tx *sqlx.Tx) error { // another node may have been first meanwhile
			list, err := s.pictures(ctx, tx, touchedRows{id: true})
			if err == nil && list[id] != u.Here {
				err = errTheirs
			}
			return err
		}, id)
	} else if err == nil {
		err = errTheirs
	}
	if errors.Is(err, errTheirs) {
		ours, err = false, nil
	}
	if err != nil {
		return false, err
	}
	return ours, s.forget(ctx, u)
}

// errTheirs tells that another node changed a row.
var errTheirs = errors.New("another node changed it")

// picture is a row as JSON.
func (s *Store) picture(ctx context.Context, id rowID) (out string, err error) {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return "", err
	}
	defer tx.Rollback()
	list, err := s.pictures(ctx, tx, touchedRows{id: true})
	return list[id], err
}

func (s *Store) forget(ctx context.Context, u Unshared) error {
	return s.here(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			"DELETE FROM unshared WHERE tbl = ? AND id = ? AND here = ?",
			u.Table,
			u.ID,
			u.Here,
		)
		return err
	})
}

// Text is the text in a column of a picture, Base or Here; it reports false where the row is not there.
func (u *Unshared) Text(picture, column string) (text string, there bool, err error) {
	var r Rows
	if err := json.Unmarshal([]byte(picture), &r); err != nil || len(r.Put) == 0 {
		return "", false, err
	}
	values, err := decodeValues(r.Put[0])
	if err != nil || len(values) != len(r.Columns) {
		return "", false, fmt.Errorf("the picture of a row of %s is damaged: %w", u.Table, err)
	}
	if at := slices.Index(r.Columns, column); at >= 0 {
		text, _ = values[at].(string)
	}
	return text, true, nil
}

// CodesWhenCutOff tells what becomes of one-time codes while no majority is reached: refuse or take.
func (s *Store) CodesWhenCutOff(ctx context.Context) (string, error) {
	var out string
	err := notFound(s.db.GetContext(ctx, &out, "SELECT codes FROM node_settings"))
	if errors.Is(err, ErrNotFound) {
		return "refuse", nil
	}
	return out, err
}

// SetCodesWhenCutOff sets it.
func (s *Store) SetCodesWhenCutOff(ctx context.Context, codes string) error {
	return s.exec(ctx, "INSERT INTO node_settings (only, codes) VALUES (1, ?) ON CONFLICT (only) DO UPDATE SET "+
		"codes = excluded.codes", codes)
}
