package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// PutOff lists the steps of the first hour that were put off.
func (s *Store) PutOff(ctx context.Context) (map[string]bool, error) {
	var list []string
	err := s.db.SelectContext(ctx, &list, "SELECT step FROM first_hour")
	out := map[string]bool{}
	for _, step := range list {
		out[step] = true
	}
	return out, err
}

// SetPutOff puts a step off, or takes it up again.
func (s *Store) SetPutOff(ctx context.Context, step, operator string, off bool) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if !off {
			_, err := tx.ExecContext(ctx, "DELETE FROM first_hour WHERE step = ?", step)
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO first_hour (step, at, operator) VALUES (?, ?, ?)", step,
			time.Now().UnixMilli(), operator)
		return err
	})
}
