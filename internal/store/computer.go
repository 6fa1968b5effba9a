package store

import (
	"context"
	"fmt"
)

// SeenComputer is a computer that was proven from a MAC address.
type SeenComputer struct {
	MAC  string `db:"mac"`
	Name string `db:"name"`
	At   int64  `db:"at"`
}

// SeenComputers returns what was seen since a moment, and forgets what is older.
func (s *Store) SeenComputers(ctx context.Context, since int64) ([]SeenComputer, error) {
	if _, err := s.single.ExecContext(ctx, "DELETE FROM machines WHERE at < ?", since); err != nil {
		return nil, fmt.Errorf("forgetting computers: %w", err)
	}
	out := []SeenComputer{}
	err := s.db.SelectContext(ctx, &out, "SELECT mac, name, at FROM machines ORDER BY at")
	return out, err
}

// SaveSeenComputers records computers, all in one transaction.
func (s *Store) SaveSeenComputers(ctx context.Context, list []SeenComputer) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, m := range list {
		if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO machines (mac, name, at) VALUES (:mac, "+
			":name, :at)", m); err != nil {
			return err
		}
	}
	return tx.Commit()
}
