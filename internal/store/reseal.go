package store

import (
	"context"
	"fmt"
)

// Sealed are the functions that seal secrets anew, by where they are kept.
type Sealed struct {
	// Config works on a whole configuration.
	Config                   func(config []byte) ([]byte, error)
	Account, Factor, Machine func(id, sealed string) (string, error)
}

// Reseal puts everything that is sealed through the functions, all of it or nothing.
func (s *Store) Reseal(ctx context.Context, f Sealed) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("sealing secrets anew: %w", err)
	}
	defer tx.Rollback()
	type row struct {
		Key   string `db:"key"`
		Value string `db:"value"`
	}
	each := func(table, key, column string, again func(key, value string) (string, error)) error {
		var rows []row
		if err := tx.SelectContext(ctx, &rows,
			fmt.Sprintf("SELECT %s AS key, CAST(%s AS TEXT) AS value FROM %s WHERE %s <> ''", key, column, table,
				column)); err != nil {
			return fmt.Errorf("reading %s of %s: %w", column, table, err)
		}
		for _, r := range rows {
			next, err := again(r.Key, r.Value)
			if err != nil {
				return fmt.Errorf("sealing %s of %s %s anew: %w", column, table, r.Key, err)
			}
			if next == r.Value {
				continue
			}
			var value any = next
			if column == "config" {
				value = []byte(next)
			}
			if _, err := tx.ExecContext(ctx, fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s = ?", table, column, key),
				value, r.Key); err != nil {
				return fmt.Errorf("storing %s of %s: %w", column, table, err)
			}
		}
		return nil
	}
	whole := func(_, value string) (string, error) {
		next, err := f.Config([]byte(value))
		return string(next), err
	}
	for _, one := range []struct {
		table, key, column string
		again              func(key, value string) (string, error)
	}{
		{"revisions", "number", "config", whole}, {"draft", "only", "config", whole},
		{"accounts", "id", "proof", f.Account}, {"factors", "id", "secrets", f.Factor},
		{"machine_accounts", `domain || '\' || computer`, "password", f.Machine},
		{"machine_accounts", `domain || '\' || computer`, "previous", f.Machine},
	} {
		if err := each(one.table, one.key, one.column, one.again); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("sealing secrets anew: %w", err)
	}
	return nil
}
