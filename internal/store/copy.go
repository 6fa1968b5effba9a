package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"
)

// Copied is the copy of a person that a directory keeps.
type Copied struct {
	Directory  string `db:"directory"`
	ID         string `db:"id"`
	Name       string `db:"name"`
	Display    string `db:"display"`
	DN         string `db:"dn"`
	State      string `db:"state"`
	Attributes []byte `db:"attributes"`
	Missing    string `db:"missing"`
	SeenAt     int64  `db:"seen_at"`
	GoneAt     int64  `db:"gone_at"`
}

// SaveCopied adds or replaces copies of people, all or none.
func (s *Store) SaveCopied(ctx context.Context, list []Copied) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, p := range list {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO people (directory, id, name, display, dn, state, attributes, missing, seen_at, gone_at)
			VALUES (:directory, :id, :name, :display, :dn, :state, :attributes, :missing, :seen_at, 0)
			ON CONFLICT (directory, id) DO UPDATE SET name = excluded.name, display = excluded.display, dn = excluded.dn, state = excluded.state,
			attributes = excluded.attributes, missing = excluded.missing, seen_at = excluded.seen_at, gone_at = 0`, p); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// MarkGone marks those who were not seen since a moment, and counts them.
func (s *Store) MarkGone(ctx context.Context, directory string, since, now int64) (int, error) {
	result, err := s.single.ExecContext(
		ctx,
		"UPDATE people SET gone_at = ? WHERE directory = ? AND seen_at < ? AND "+
			"gone_at = 0",
		now,
		directory,
		since,
	)
	if err != nil {
		return 0, err
	}
	n, err := result.RowsAffected()
	return int(n), err
}

// CopiedFilter says which copies are wanted.
type CopiedFilter struct {
	Directory, Text string
	// Missing wants those who lack a wanted attribute, Gone those who are no longer there.
	Missing, Gone bool
	After         string // name and identifier of the last one of the page before
	Limit         int
}

// CopiedList lists copies in the order of their names.
func (s *Store) CopiedList(ctx context.Context, f CopiedFilter) ([]Copied, error) {
	where, args := []string{"directory = ?"}, []any{f.Directory}
	if f.Text != "" {
		where = append(where, "(name LIKE ? ESCAPE '\\' OR display LIKE ? ESCAPE '\\' OR CAST(attributes AS TEXT) "+
			"LIKE ? ESCAPE '\\')")
		text := "%" + literally.Replace(f.Text) + "%"
		args = append(args, text, text, text)
	}
	if f.Missing {
		where = append(where, "missing <> '' AND gone_at = 0")
	}
	if f.Gone {
		where = append(where, "gone_at <> 0")
	}
	if name, id, ok := strings.Cut(f.After, "\x00"); ok {
		where, args = append(where, "(name, id) > (?, ?)"), append(args, name, id)
	}
	out := []Copied{}
	err := s.db.SelectContext(ctx, &out, "SELECT directory, id, name, display, dn, state, attributes, missing, "+
		"seen_at, gone_at FROM people WHERE "+strings.Join(where, " AND ")+" ORDER BY name, id LIMIT ?",
		append(args, f.Limit)...)
	return out, err
}

// literally takes the meaning from what LIKE reads as a wildcard.
var literally = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

// CopiedBest returns the people of a directory whose name or display name has the text in it, those first that are it,
// then those that begin with it, then those of whom a word begins with it.
func (s *Store) CopiedBest(ctx context.Context, directory, text string, limit int) ([]Copied, error) {
	out, whole := []Copied{}, literally.Replace(text)
	err := s.db.SelectContext(ctx, &out, "SELECT directory, id, name, display, dn, state, attributes, missing, "+
		"seen_at, gone_at FROM people "+
		"WHERE directory = ?1 AND (name LIKE ?2 ESCAPE '\\' OR display LIKE ?2 ESCAPE '\\') "+
		"ORDER BY CASE WHEN name LIKE ?3 ESCAPE '\\' OR display LIKE ?3 ESCAPE '\\' THEN 0 "+
		"WHEN name LIKE ?4 ESCAPE '\\' OR display LIKE ?4 ESCAPE '\\' THEN 1 "+
		"WHEN name LIKE ?5 ESCAPE '\\' OR display LIKE ?5 ESCAPE '\\' THEN 2 ELSE 3 END, name, id LIMIT ?6",
		directory, "%"+whole+"%", whole, whole+"%", "% "+whole+"%", limit)
	return out, err
}

// CopyRun returns the last run of the copy of a directory, nil if there was none.
func (s *Store) CopyRun(ctx context.Context, directory string) ([]byte, error) {
	var run []byte
	err := s.db.GetContext(ctx, &run, "SELECT run FROM people_runs WHERE directory = ?", directory)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return run, err
}

// SaveCopyRun keeps the last run.
func (s *Store) SaveCopyRun(ctx context.Context, directory string, run []byte) error {
	return s.execHere(
		ctx,
		"INSERT INTO people_runs (directory, run) VALUES (?, ?) ON CONFLICT (directory) DO UPDATE SET "+
			"run = excluded.run",
		directory,
		run,
	)
}

// ForgetCopied removes the copies of directories other than those given, which are no longer configured.
func (s *Store) ForgetCopied(ctx context.Context, kept []string) error {
	marks, args := "''", []any{}
	for _, id := range kept {
		marks += ", ?"
		args = append(args, id)
	}
	for _, table := range []string{"people", "people_runs"} {
		if _, err := s.single.ExecContext(ctx, "DELETE FROM "+table+" WHERE directory NOT IN ("+marks+")",
			args...); err != nil {
			return err
		}
	}
	return nil
}
