package store

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// What an earlier version kept as rows is there under its identifiers, also after a move that was cut off.
func TestRecordsOfAnEarlierVersionAreMoved(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	s, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ids, begun := ident.NewSource(0), time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	const n = 3 * movedAtOnce / 2
	row := func(tx *sqlx.Tx, i int) ident.ID {
		id := ids.New(begun.Add(time.Duration(i) * time.Second))
		if _, err := tx.Exec(`INSERT INTO attempts VALUES (?, 'refused', 'password.wrong', 'np-switch-1', ?, 'X', 'Ann',
			'', '1/0/7', 'Wired', '', '', '', 7, 1200, ?)`, id, fmt.Sprint("p", i), []byte(fmt.Sprintf(`{"n":%d}`, i))); err != nil {
			t.Fatal(err)
		}
		return id
	}
	last, tx := ident.ID(0), s.single.MustBegin()
	for i := range n {
		last = row(tx, i)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	// a move that was cut off has brought some
	half, err := record.Open(ctx, dir, ident.NewSource(0), attempts(nil), record.Retention{})
	if err != nil {
		t.Fatal(err)
	}
	var some []ident.ID
	if err := s.db.Select(&some, "SELECT id FROM attempts ORDER BY id LIMIT 1000"); err != nil {
		t.Fatal(err)
	}
	for i, id := range some {
		if err := half.Import(ctx, []*Attempt{{ID: id, At: id.Time(), Who: fmt.Sprint("p", i)}}); err != nil {
			t.Fatal(err)
		}
	}
	half.Close()
	old, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "journal.db"))
	if err != nil {
		t.Fatal(err)
	}
	entry := ids.New(begun)
	for _, query := range []string{
		`CREATE TABLE journal (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, kind TEXT NOT NULL,
		client TEXT NOT NULL, who TEXT NOT NULL, command TEXT NOT NULL, verdict TEXT NOT NULL, task TEXT NOT NULL,
		rest TEXT NOT NULL)`, fmt.Sprintf(`INSERT INTO journal VALUES (%d, %d, 'command', 'hh-router-1', 'ann',
		'show version', 'admitted', '', '{"display":"Ann","from":"192.0.2.7","level":15,"args":["cmd=show"]}')`, entry,
			begun.UnixMicro())} {
		if _, err := old.Exec(query); err != nil {
			t.Fatal(err)
		}
	}
	old.Close()
	a, err := OpenAttempts(ctx, dir, ident.NewSource(0), s, record.Retention{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	got, err := a.Get(ctx, last)
	if err != nil || got.Who != fmt.Sprint("p", n-1) || string(got.Facts) != fmt.Sprintf(`{"n":%d}`, n-1) ||
		!got.At.Equal(begun.Add((n-1)*time.Second)) || got.Revision != 7 || a.Len() != n {
		t.Errorf("moved: %+v, %v; %d in all", got, err, a.Len())
	}
	a.Add(&Attempt{At: begun, Verdict: "admitted"})
	a.Flush(ctx)
	if page, err := a.Find(ctx, Filter{Limit: 1}); err != nil || page.Items[0].ID <= last {
		t.Errorf("the newest is %+v, %v", page.Items, err)
	}
	var left int
	if err := s.db.Get(&left,
		"SELECT count(*) FROM sqlite_master WHERE name IN ('attempts', 'seen', 'seen_until')"); err != nil ||
		left != 0 {
		t.Errorf("%d tables are left, %v", left, err)
	}
	j, err := OpenJournal(ctx, dir, ident.NewSource(0), record.Retention{})
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	e, err := j.Get(ctx, entry)
	if err != nil || e.Command != "show version" || e.Display != "Ann" || e.Origin != "192.0.2.7" || e.Level != 15 ||
		len(e.Args) != 1 || !e.At.Equal(begun) {
		t.Errorf("moved: %+v, %v", e, err)
	}
}
