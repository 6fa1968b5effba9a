package store

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// movedAtOnce is how many records of an earlier version are moved in one step.
const movedAtOnce = 4096

// moveAttempts moves attempts that an earlier version kept as rows of the database. It can be cut off at any time and
// goes on where it was.
func (s *Store) moveAttempts(ctx context.Context, to *record.Keeper[Attempt]) error {
	type row struct {
		ID       ident.ID `db:"id"`
		Verdict  string   `db:"verdict"`
		Reason   string   `db:"reason"`
		Client   string   `db:"client"`
		Who      string   `db:"who"`
		Sent     string   `db:"sent"`
		Display  string   `db:"display"`
		MAC      string   `db:"mac"`
		Place    string   `db:"place"`
		Lane     string   `db:"lane"`
		Policy   string   `db:"policy"`
		Pass     string   `db:"pass"`
		VLAN     string   `db:"vlan"`
		Revision int      `db:"revision"`
		Micros   int64    `db:"micros"`
		Facts    []byte   `db:"facts"`
	}
	return move(ctx, s.single, "attempts", to, func(r *row) (*Attempt, ident.ID) {
		return &Attempt{At: r.ID.Time(), ID: r.ID, Verdict: r.Verdict, Reason: r.Reason, Client: r.Client, Who: r.Who,
			Sent: r.Sent, Display: r.Display, MAC: r.MAC, Place: r.Place, Lane: r.Lane, Policy: r.Policy, Pass: r.Pass,
			VLAN: r.VLAN, Revision: r.Revision, Micros: r.Micros, Facts: r.Facts}, r.ID
	}, "seen", "seen_until")
}

// moveEntries moves entries that an earlier version kept as rows of the same file.
func moveEntries(ctx context.Context, db *sqlx.DB, to *record.Keeper[Entry]) error {
	type row struct {
		ID      ident.ID `db:"id"`
		At      int64    `db:"at"`
		Kind    string   `db:"kind"`
		Client  string   `db:"client"`
		Who     string   `db:"who"`
		Command string   `db:"command"`
		Verdict string   `db:"verdict"`
		Task    string   `db:"task"`
		Rest    []byte   `db:"rest"`
	}
	return move(ctx, db, "journal", to, func(r *row) (*Entry, ident.ID) {
		var e Entry // the rest was JSON with the names of the fields, but for one
		var from struct{ From string }
		if json.Unmarshal(r.Rest, &e) != nil || json.Unmarshal(r.Rest, &from) != nil {
			e = Entry{}
		}
		e.ID, e.At, e.Kind, e.Client, e.Who, e.Command, e.Verdict, e.Task = r.ID, time.UnixMicro(r.At), r.Kind,
			r.Client,
			r.Who, r.Command, r.Verdict, r.Task
		e.Origin = from.From
		return &e, r.ID
	})
}

// move moves the rows of a table into a keeper, and drops the table, with others that go with it.
func move[Row, T any](ctx context.Context, db *sqlx.DB, table string, to *record.Keeper[T],
	read func(*Row) (*T, ident.ID), with ...string) error {
	var there int
	if err := db.GetContext(ctx, &there, "SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = ?",
		table); err != nil || there == 0 {
		return err
	}
	moved, begun := 0, time.Now()
	for after := to.Last(); ; {
		var rows []Row
		if err := db.SelectContext(ctx, &rows, "SELECT * FROM "+table+" WHERE id > ? ORDER BY id LIMIT ?", after,
			movedAtOnce); err != nil {
			return fmt.Errorf("moving the table %s: %w", table, err)
		}
		if len(rows) == 0 {
			break
		}
		list := make([]*T, len(rows))
		for i := range rows {
			list[i], after = read(&rows[i])
		}
		if err := to.Import(ctx, list); err != nil {
			return fmt.Errorf("moving the table %s: %w", table, err)
		}
		moved += len(rows)
	}
	if err := to.Sync(ctx); err != nil {
		return err
	}
	for _, name := range append(with, table) {
		if _, err := db.ExecContext(ctx, "DROP TABLE IF EXISTS "+name); err != nil {
			return fmt.Errorf("dropping the table %s, which was moved: %w", name, err)
		}
	}
	if moved == 0 {
		return nil
	}
	slog.Info("records of an earlier version are moved", "table", table, "records", moved, "took", time.Since(begun))
	if _, err := db.ExecContext(ctx, "VACUUM"); err != nil { // the room is for others
		slog.Warn("the room of records that were moved is not given back", "error", err)
	}
	return nil
}
