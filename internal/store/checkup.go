package store

import "context"

// CheckupLine is the last outcome of a line of the checkup.
type CheckupLine struct {
	Key   string `db:"key"`
	Line  []byte `db:"line"`
	State string `db:"state"`
	Since int64  `db:"since"`
	At    int64  `db:"at"`
}

// CheckupChange is a line whose state changed.
type CheckupChange struct {
	ID   int64  `db:"id"`
	Key  string `db:"key"`
	Line []byte `db:"line"`
	Was  string `db:"was"`
	At   int64  `db:"at"`
}

// CheckupLines returns the last outcome of all lines.
func (s *Store) CheckupLines(ctx context.Context) ([]CheckupLine, error) {
	out := []CheckupLine{}
	err := s.db.SelectContext(ctx, &out, "SELECT key, line, state, since, at FROM checkup ORDER BY key")
	return out, err
}

// CheckupChanges returns the newest changes.
func (s *Store) CheckupChanges(ctx context.Context, limit int) ([]CheckupChange, error) {
	out := []CheckupChange{}
	err := s.db.SelectContext(ctx, &out, "SELECT id, key, line, was, at FROM checkup_changes ORDER BY id DESC LIMIT ?",
		limit)
	return out, err
}

// SaveCheckup replaces lines, removes others, adds changes and keeps only the newest of those.
func (s *Store) SaveCheckup(ctx context.Context, lines []CheckupLine, gone []string, changes []CheckupChange,
	keep int) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, l := range lines {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO checkup (key, line, state, since, at) VALUES (:key, :line, :state, :since, :at)
			ON CONFLICT (key) DO UPDATE SET line = excluded.line, state = excluded.state, since = excluded.since, at = excluded.at`, l); err != nil {
			return err
		}
	}
	for _, key := range gone {
		if _, err := tx.ExecContext(ctx, "DELETE FROM checkup WHERE key = ?", key); err != nil {
			return err
		}
	}
	for _, c := range changes {
		if _, err := tx.NamedExecContext(ctx, "INSERT INTO checkup_changes (key, line, was, at) VALUES (:key, :line, "+
			":was, :at)", c); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM checkup_changes WHERE id <= (SELECT MAX(id) FROM "+
		"checkup_changes) - ?", keep); err != nil {
		return err
	}
	return tx.Commit()
}
