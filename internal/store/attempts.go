package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/ident"
)

// Attempt is one recorded attempt.
type Attempt struct {
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

const attemptColumns = "id, verdict, reason, client, who, sent, display, mac, place, lane, policy, pass, vlan, revision, micros"

// Filter selects attempts. Empty fields select everything.
type Filter struct {
	User    string // exact, without regard to case; * stands for any characters
	MAC     string
	Client  string
	Verdict string
	Reason  string
	Lane    string
	// Text is searched in name, person, MAC and client.
	Text         string
	Since, Until time.Time
	// Before is a cursor: only older attempts. After: only newer ones.
	Before, After ident.ID
	Limit         int
}

func (f *Filter) where() (string, []any) {
	var parts []string
	var args []any
	add := func(part string, values ...any) {
		parts, args = append(parts, part), append(args, values...)
	}
	if f.User != "" {
		user := strings.ToLower(f.User)
		if strings.Contains(user, "*") {
			add(`(who LIKE ? ESCAPE '\' OR sent LIKE ? ESCAPE '\')`, like(user), like(user))
		} else {
			add("who = ?", user)
		}
	}
	for _, c := range []struct{ column, value string }{{"mac", f.MAC}, {"client", f.Client}, {"verdict", f.Verdict}, {"reason", f.Reason}, {"lane", f.Lane}} {
		if c.value != "" {
			add(c.column+" = ?", c.value)
		}
	}
	if f.Text != "" {
		pattern := like("*" + f.Text + "*")
		add(`(sent LIKE ? ESCAPE '\' OR display LIKE ? ESCAPE '\' OR mac LIKE ? ESCAPE '\' OR client LIKE ? ESCAPE '\')`, pattern, pattern, pattern, pattern)
	}
	if !f.Since.IsZero() {
		add("id >= ?", ident.At(f.Since))
	}
	if !f.Until.IsZero() {
		add("id < ?", ident.At(f.Until))
	}
	if f.Before != 0 {
		add("id < ?", f.Before)
	}
	if f.After != 0 {
		add("id > ?", f.After)
	}
	if len(parts) == 0 {
		return "", nil
	}
	return " WHERE " + strings.Join(parts, " AND "), args
}

// like turns * into the wildcard of SQL and takes the meaning from SQL's own.
func like(pattern string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`, "*", "%").Replace(pattern)
}

// Attempts lists attempts from the newest to the oldest, without their facts. With After alone it lists the oldest
// of the newer ones first, which is what following needs.
func (s *Store) Attempts(ctx context.Context, f Filter) ([]Attempt, error) {
	where, args := f.where()
	order := "DESC"
	if f.After != 0 && f.Before == 0 {
		order = "ASC"
	}
	out := []Attempt{}
	query := "SELECT " + attemptColumns + " FROM attempts" + where + " ORDER BY id " + order + " LIMIT ?"
	if err := s.db.SelectContext(ctx, &out, query, append(args, f.Limit)...); err != nil {
		return nil, fmt.Errorf("listing attempts: %w", err)
	}
	return out, nil
}

// Attempt returns one attempt with its facts.
func (s *Store) Attempt(ctx context.Context, id ident.ID) (Attempt, error) {
	var a Attempt
	err := s.db.GetContext(ctx, &a, "SELECT "+attemptColumns+", facts FROM attempts WHERE id = ?", id)
	return a, notFound(err)
}

// Minute counts the attempts of one minute.
type Minute struct {
	Minute   int64 `db:"minute"` // minutes since 1970
	Admitted int   `db:"admitted"`
	Refused  int   `db:"refused"`
}

// CountByMinute counts attempts since a moment.
func (s *Store) CountByMinute(ctx context.Context, since time.Time) ([]Minute, error) {
	out := []Minute{}
	offset := ident.ID(0).Time().UnixMilli()
	err := s.db.SelectContext(ctx, &out, `SELECT ((id >> 22) + ?) / 60000 AS minute, sum(verdict = 'admitted') AS admitted,
		sum(verdict <> 'admitted') AS refused FROM attempts WHERE id >= ? GROUP BY minute`, offset, ident.At(since))
	return out, err
}

// RemoveAttempts removes up to limit attempts older than a moment and tells how many it removed.
func (s *Store) RemoveAttempts(ctx context.Context, before time.Time, limit int) (int64, error) {
	result, err := s.single.ExecContext(ctx, "DELETE FROM attempts WHERE id IN (SELECT id FROM attempts WHERE id < ? ORDER BY id LIMIT ?)", ident.At(before), limit)
	if err != nil {
		return 0, fmt.Errorf("removing old attempts: %w", err)
	}
	return result.RowsAffected()
}
