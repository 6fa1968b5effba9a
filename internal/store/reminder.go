package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Reminder is when somebody was reminded of the second factor, by this node.
type Reminder struct {
	Store string `db:"store"`
	Name  string `db:"name"`
	// At is in milliseconds since 1970.
	At int64 `db:"at"`
}

// Reminders returns when people were reminded, by store and name in lower case with a zero octet between.
func (s *Store) Reminders(ctx context.Context) (map[string]time.Time, error) {
	var rows []Reminder
	if err := s.db.SelectContext(ctx, &rows, "SELECT store, name, at FROM reminders"); err != nil {
		return nil, fmt.Errorf("reading who was reminded: %w", err)
	}
	out := map[string]time.Time{}
	for _, r := range rows {
		out[strings.ToLower(r.Store)+"\x00"+strings.ToLower(r.Name)] = time.UnixMilli(r.At)
	}
	return out, nil
}

// SaveReminders notes who was reminded, and forgets what is older than a moment.
func (s *Store) SaveReminders(ctx context.Context, list []Reminder, oldest time.Time) error {
	return s.here(ctx, func(tx *sqlx.Tx) error {
		for _, r := range list {
			if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO reminders (store, name, at) VALUES (:store, "+
				":name, :at)", r); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM reminders WHERE at < ?", oldest.UnixMilli())
		return err
	})
}

// Alarm is what a person said on the phone of a sign-in: this is not me.
type Alarm struct {
	Store  string `db:"store"`
	Name   string `db:"name"`
	Client string `db:"client"`
	Source string `db:"source"`
	// At is in milliseconds since 1970.
	At int64 `db:"at"`
}

// Alarms returns those of after a moment, the oldest first.
func (s *Store) Alarms(ctx context.Context, after time.Time) ([]Alarm, error) {
	out := []Alarm{}
	err := s.db.SelectContext(
		ctx,
		&out,
		"SELECT store, name, client, source, at FROM alarms WHERE at > ? ORDER BY at",
		after.UnixMilli(),
	)
	return out, err
}

// AddAlarm keeps one, and forgets those of before a moment.
func (s *Store) AddAlarm(ctx context.Context, a Alarm, oldest time.Time) error {
	return s.here(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM alarms WHERE at < ?", oldest.UnixMilli()); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(
			ctx,
			"INSERT INTO alarms (store, name, client, source, at) VALUES (:store, :name, "+
				":client, :source, :at)",
			a,
		)
		return err
	})
}

// RemoveAlarms forgets those of a person up to a moment.
func (s *Store) RemoveAlarms(ctx context.Context, store, name string, until time.Time) error {
	return s.execHere(ctx, "DELETE FROM alarms WHERE store = ? AND name = ? AND at <= ?", store, name,
		until.UnixMilli())
}
