package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/core/chain"
	"tollgate.example/key/internal/store/sqlite"
)

// Shared is one entry of the log that nodes share: what became of rows, and what the audit says of it.
type Shared struct {
	// Node is the number of the node that made it, At when, in milliseconds since 1970 by its clock.
	Node   int               `json:"node"`
	At     int64             `json:"at"`
	Tables []Rows            `json:"tables"`
	Lines  []json.RawMessage `json:"lines,omitempty"`
}

// LogEntry is an entry as it comes from the log: numbered without gaps, with what tells it from all others.
type LogEntry struct {
	Number int64
	ID     string
	Data   []byte
}

// Touched is a record that is another one now.
type Touched struct{ Kind, ID string }

// ErrGap is returned where entries are missing: the file has to be brought to the state of another node as a whole.
var ErrGap = errors.New("entries of the log are missing")

// ErrDiverged is returned where an entry does not fit what is in the file, which was changed beside the log: it has to
// be brought to the state of another node as a whole.
var ErrDiverged = errors.New("the database is another one than that of the other nodes")

// ErrNewer is returned where an entry needs a newer version of the service.
var ErrNewer = errors.New("a newer version of the service wrote this")

// SharedState is how far a file has come in the log of all nodes.
type SharedState struct {
	Epoch   string `db:"epoch"`
	Node    int    `db:"node"`
	Applied int64  `db:"applied"`
}

// SharedState returns how far the file has come; ErrNotFound if there is but this node.
func (s *Store) SharedState(ctx context.Context) (out SharedState, err error) {
	err = s.db.GetContext(ctx, &out, "SELECT epoch, node, applied FROM shared_state")
	return out, notFound(err)
}

// SetSharedState says where a file stands when it begins to be shared.
func (s *Store) SetSharedState(ctx context.Context, st SharedState) error {
	err := s.here(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO shared_state (only, epoch, node, applied) "+
			"VALUES (1, :epoch, :node, :applied)", st)
		return err
	})
	if err == nil {
		s.member.Store(true)
	}
	return err
}

// apply puts one entry into the file.
func (s *Store) apply(ctx context.Context, tx *sqlx.Tx, e *Shared) ([]Touched, error) {
	var out []Touched
	for _, r := range e.Tables {
		t := s.tables[r.Table]
		if t == nil {
			return nil, fmt.Errorf("%w: it knows of %s", ErrNewer, r.Table)
		}
		keys, err := r.remove(ctx, tx, t)
		if err != nil {
			return nil, fmt.Errorf("removing rows of %s: %w", r.Table, err)
		}
		put, err := r.put(ctx, tx, t)
		if err != nil {
			return nil, fmt.Errorf("putting rows into %s: %w", r.Table, err)
		}
		for _, key := range append(keys, put...) {
			if c := t.told(key); c.Kind != "" && !slices.Contains(out, c) {
				out = append(out, c)
			}
		}
	}
	return out, nil
}

// told is what whoever keeps records in memory is told of a row.
func (t *sharedTable) told(key []any) Touched {
	if t.whole || t.kind == "" {
		return Touched{Kind: t.kind}
	}
	return Touched{t.kind, fmt.Sprint(key[0])}
}

func (r *Rows) remove(ctx context.Context, tx *sqlx.Tx, t *sharedTable) (keys [][]any, err error) {
	for _, text := range r.Gone {
		key, err := decodeValues(text)
		if err != nil || len(key) != len(t.key) {
			return nil, fmt.Errorf("the key %.80s is damaged: %w", text, err)
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+r.Table+" WHERE "+t.where(), key...); err != nil {
			return nil, err
		}
		keys = append(keys, key)
	}
	return keys, nil
}

func (r *Rows) put(ctx context.Context, tx *sqlx.Tx, t *sharedTable) (keys [][]any, err error) {
	if len(r.Put) == 0 {
		return nil, nil
	}
	var set []string
	for _, c := range r.Columns {
		if !slices.ContainsFunc(t.columns, func(known column) bool { return known.Name == c }) {
			return nil, fmt.Errorf("%w: it knows of the column %s", ErrNewer, c)
		}
		set = append(set, c+" = excluded."+c)
	}
	for _, c := range t.columns {
		if !slices.Contains(r.Columns, c.Name) {
			if c.Default == nil {
				return nil, fmt.Errorf("the column %s is missing", c.Name)
			}
			set = append(set, c.Name+" = "+*c.Default)
		}
	}
	save, err := tx.PreparexContext(ctx, "INSERT INTO "+r.Table+" ("+strings.Join(r.Columns, ", ")+") VALUES ("+
		strings.Repeat(", ?", len(r.Columns))[2:]+") ON CONFLICT ("+strings.Join(t.key, ", ")+") DO UPDATE SET "+
		strings.Join(set, ", "))
	if err != nil {
		return nil, err
	}
	defer save.Close()
	for _, text := range r.Put {
		values, err := decodeValues(text)
		if err != nil || len(values) != len(r.Columns) {
			return nil, fmt.Errorf("the row %.80s is damaged: %w", text, err)
		}
		if _, err := save.ExecContext(ctx, values...); sqlite.Taken(err) {
			return nil, fmt.Errorf("%w: %w", ErrDiverged, err)
		} else if err != nil {
			return nil, err
		}
		key := make([]any, len(t.key))
		for i, k := range t.key {
			key[i] = values[slices.Index(r.Columns, k)]
		}
		keys = append(keys, key)
	}
	return keys, nil
}

// appendLines records lines of another node, numbered anew: each node has a chain of its own.
func appendLines(ctx context.Context, tx *sqlx.Tx, lines []json.RawMessage) error {
	if len(lines) == 0 {
		return nil
	}
	number, hash, err := head(ctx, tx)
	if err != nil {
		return err
	}
	for _, text := range lines {
		rest, ok := bytes.CutPrefix(text, []byte(`{"number":0`))
		if !ok {
			return fmt.Errorf("the line %.80s of the audit is damaged", text)
		}
		number++
		line := append(fmt.Appendf(nil, `{"number":%d`, number), rest...)
		if hash, err = appendLine(ctx, tx, number, hash, line); err != nil {
			return err
		}
	}
	return nil
}

func appendLine(ctx context.Context, tx *sqlx.Tx, number int64, before chain.Sum, line []byte) (chain.Sum, error) {
	hash := chain.Next(before, line)
	_, err := tx.ExecContext(ctx, "INSERT INTO audit (number, line, hash) VALUES (?, ?, ?)", number, string(line),
		hash[:])
	if err != nil {
		return hash, fmt.Errorf("recording in the audit: %w", err)
	}
	return hash, nil
}

// advance notes how far the file has come, in the transaction that brings it there.
func advance(ctx context.Context, tx *sqlx.Tx, to int64) error {
	return touched(tx.ExecContext(ctx, "UPDATE shared_state SET applied = ?", to))
}

func appliedIn(ctx context.Context, tx *sqlx.Tx) (n int64, err error) {
	err = tx.GetContext(ctx, &n, "SELECT applied FROM shared_state")
	if errors.Is(err, sql.ErrNoRows) {
		return 0, errors.New("the database is not shared with other nodes")
	}
	return n, err
}
