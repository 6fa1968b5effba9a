package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/core/chain"
)

// Note is what the audit is told of a transaction, in the same transaction: the change and its lines are both on the
// disk, or neither is.
type Note interface {
	// Lines returns what is to be recorded, numbered from next on, and what is to be told how it went, with the hash of
	// the last line.
	Lines(next int64) (lines [][]byte, settled func(last chain.Sum, err error))
	// Draft returns what is to be recorded of the change alone, as the line with number 0; nil if nothing is.
	Draft() []byte
}

type noteKey struct{}

// WithNote has every transaction of a context recorded; nil has none.
func WithNote(ctx context.Context, n Note) context.Context {
	return context.WithValue(ctx, noteKey{}, n)
}

// Record records what a note has to say, without another change.
func (s *Store) Record(ctx context.Context, n Note) error {
	return s.here(WithNote(ctx, n), func(*sqlx.Tx) error { return nil })
}

// witness appends what the note of a context has to say.
func witness(ctx context.Context, tx *sqlx.Tx) (settle func(error), err error) {
	n, ok := ctx.Value(noteKey{}).(Note)
	if !ok {
		return func(error) {}, nil
	}
	number, hash, err := head(ctx, tx)
	if err != nil {
		return nil, err
	}
	lines, settled := n.Lines(number + 1)
	for _, line := range lines {
		number++
		if hash, err = appendLine(ctx, tx, number, hash, line); err != nil {
			settled(hash, err)
			return nil, err
		}
	}
	return func(err error) { settled(hash, err) }, nil
}

// head is the last line of the audit; 0 and zeros before there is one.
func head(ctx context.Context, from sqlx.QueryerContext) (number int64, hash chain.Sum, err error) {
	var row AuditRow
	err = sqlx.GetContext(ctx, from, &row, "SELECT number, hash FROM audit ORDER BY number DESC LIMIT 1")
	if errors.Is(err, sql.ErrNoRows) {
		return 0, hash, nil
	}
	return row.Number, chain.SumOf(row.Hash), err
}

// AuditRow is a line of the audit.
type AuditRow struct {
	Number int64  `db:"number"`
	Line   []byte `db:"line"`
	Hash   []byte `db:"hash"`
}

// AuditHead is the number and the hash of the last line.
func (s *Store) AuditHead(ctx context.Context) (int64, chain.Sum, error) { return head(ctx, s.db) }

// AuditFilter selects lines of the audit. Who and Name may hold * for any characters; Text is looked for in the whole
// line. Since and Until are as lines have them. Before and After are numbers.
type AuditFilter struct {
	Who, Kind, Object, Name, Result, Text, Since, Until string
	Before, After                                       int64
	// Oldest lists the oldest first.
	Oldest bool
	Limit  int
}

// auditStep is how many lines are looked at by one query of a search.
const auditStep = 20_000

// Audit lists lines that fit, with the number of the one at which it stopped looking, 0 at the end: it looks at no more
// than a part of them before goOn is asked.
func (s *Store) Audit(
	ctx context.Context,
	f AuditFilter,
	goOn func() bool,
) (rows []AuditRow, stopped int64, err error) {
	last, _, err := head(ctx, s.db)
	if err != nil {
		return nil, 0, err
	}
	var first int64
	if err := s.db.GetContext(ctx, &first, "SELECT coalesce(min(number), 0) FROM audit"); err != nil {
		return nil, 0, err
	}
	where, args := f.where()
	low, high := max(first, f.After+1), last
	if f.Before > 0 {
		high = min(high, f.Before-1)
	}
	for low <= high && len(rows) < f.Limit {
		from, to, order := low, min(low+auditStep-1, high), "ASC"
		if !f.Oldest {
			from, to, order = max(high-auditStep+1, low), high, "DESC"
		}
		err := s.db.SelectContext(
			ctx,
			&rows,
			"SELECT number, line, hash FROM audit WHERE number BETWEEN ? AND ?"+
				where+" ORDER BY number "+order+" LIMIT ?",
			append([]any{from, to}, append(args, f.Limit-len(rows))...)...)
		if err != nil {
			return nil, 0, err
		}
		if len(rows) >= f.Limit {
			break
		}
		if !f.Oldest {
			high = from - 1
		} else {
			low = to + 1
		}
		if !goOn() && low <= high {
			if !f.Oldest {
				return rows, high + 1, nil
			}
			return rows, low - 1, nil
		}
	}
	return rows, 0, nil
}

func (f *AuditFilter) where() (text string, args []any) {
	for _, one := range [][2]string{{"kind = ?", f.Kind}, {"object = ?", f.Object}, {"result = ?", f.Result},
		{"at >= ?", f.Since}, {"at < ?", f.Until}} {
		if one[1] != "" {
			text, args = text+" AND "+one[0], append(args, one[1])
		}
	}
	like := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)
	for _, one := range [][2]string{{"who", f.Who}, {"name", f.Name}} {
		if one[1] != "" {
			text += " AND " + one[0] + ` LIKE ? ESCAPE '\'`
			args = append(args, strings.ReplaceAll(like.Replace(one[1]), "*", "%"))
		}
	}
	if f.Text != "" {
		text, args = text+` AND line LIKE ? ESCAPE '\'`, append(args, "%"+like.Replace(f.Text)+"%")
	}
	return text, args
}

// AuditLine returns one line.
func (s *Store) AuditLine(ctx context.Context, number int64) (row AuditRow, err error) {
	err = s.db.GetContext(ctx, &row, "SELECT number, line, hash FROM audit WHERE number = ?", number)
	return row, notFound(err)
}

// AuditBefore returns the last line before a number, without its text.
func (s *Store) AuditBefore(ctx context.Context, number int64) (row AuditRow, err error) {
	err = s.db.GetContext(
		ctx,
		&row,
		"SELECT number, hash FROM audit WHERE number < ? ORDER BY number DESC LIMIT 1",
		number,
	)
	return row, notFound(err)
}

// WalkAudit hands on the lines from one number to another, in order.
func (s *Store) WalkAudit(
	ctx context.Context,
	from, to int64,
	each func(number int64, line, hash []byte),
) error {
	rows, err := s.db.QueryContext(
		ctx,
		"SELECT number, line, hash FROM audit WHERE number BETWEEN ? AND ? ORDER BY number",
		from,
		to,
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	var number int64
	var line, hash sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&number, &line, &hash); err != nil {
			return err
		}
		each(number, line, hash)
	}
	return rows.Err()
}

// AuditBounds are the numbers of the first and the last line, 0 if there are none.
func (s *Store) AuditBounds(ctx context.Context) (first, last int64, err error) {
	err = s.db.QueryRowxContext(ctx, "SELECT coalesce(min(number), 0), coalesce(max(number), 0) FROM audit").
		Scan(&first,
			&last)
	return first, last, err
}

// OldAudit returns the first line that is to stay when those before a moment go, as lines have it; ErrNotFound if there
// is nothing to remove. The last line stays.
func (s *Store) OldAudit(ctx context.Context, before string) (row AuditRow, err error) {
	err = s.db.GetContext(
		ctx,
		&row,
		`SELECT number, line, hash FROM audit WHERE number = (SELECT min(number) FROM audit
		WHERE at >= ? OR number = (SELECT max(number) FROM audit)) AND number > (SELECT min(number) FROM audit)`,
		before,
	)
	return row, notFound(err)
}

// TrimAudit removes the lines before one, and records that by the note in the context.
func (s *Store) TrimAudit(ctx context.Context, first int64) error {
	return s.here(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM audit WHERE number < ?", first)
		return err
	})
}

// AuditKey returns the sealed key that heads are signed with, and keeps the one that is made if there is none yet.
func (s *Store) AuditKey(ctx context.Context, made func() string) (sealed string, err error) {
	err = s.db.GetContext(ctx, &sealed, "SELECT sealed FROM audit_key")
	if !errors.Is(err, sql.ErrNoRows) {
		return sealed, err
	}
	sealed = made()
	return sealed, s.execHere(ctx, "INSERT INTO audit_key (only, sealed) VALUES (1, ?)", sealed)
}
