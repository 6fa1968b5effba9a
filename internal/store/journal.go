package store

import (
	"context"
	"errors"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// Entry is one entry of the gear journal.
type Entry struct {
	// At is when it was asked; ID follows the order of recording.
	At      time.Time
	ID      ident.ID
	Kind    string // login, enable, password, shell, command, another service; or start, stop, update
	Client  string
	Who     string // the name in lower case
	Command string
	Verdict string // admitted, refused, "" for what the gear reported
	Task    string // joins start, updates and stop
	Display string
	Origin  string
	Port    string
	Reason  string
	// Sentence says in words why something was refused.
	Sentence string
	Pass     string
	Line     string
	Level    int
	Args     []string
	Revision int
	Trial    bool
}

// entries is the kind of record that entries of the journal are. They are evidence: an entry is on the disk, whatever
// happens to the machine, before the gear is answered.
var entries = record.Kind[Entry]{Name: "journal", Durable: true,
	Key: func(e *Entry) (*ident.ID, *time.Time) { return &e.ID, &e.At },
	Fields: func(f *record.Fields, e *Entry) {
		f.Term("kind", &e.Kind)
		f.Term("client", &e.Client)
		f.Term("who", &e.Who)
		f.Term("command", &e.Command)
		f.Term("verdict", &e.Verdict)
		f.Term("task", &e.Task)
		f.Term("display", &e.Display)
		f.Text(&e.Origin)
		f.Text(&e.Port)
		f.Text(&e.Reason)
		f.Text(&e.Sentence)
		f.Text(&e.Pass)
		f.Text(&e.Line)
		f.Whole(&e.Level)
		f.Terms("arg", &e.Args)
		f.Whole(&e.Revision)
		f.Bool(&e.Trial)
	}}

// Journal is the record of what was done on network gear, in a file of its own.
type Journal struct{ *record.Keeper[Entry] }

// OpenJournal opens or creates the journal in a data directory.
func OpenJournal(ctx context.Context, dir string, ids *ident.Source, keep record.Retention) (*Journal, error) {
	k, err := record.Open(ctx, dir, ids, entries, keep)
	if err != nil {
		return nil, err
	}
	if err := moveEntries(ctx, k.File().Read, k); err != nil {
		return nil, errors.Join(err, k.Close())
	}
	return &Journal{k}, nil
}

// Find lists entries from the newest to the oldest; with After alone, the oldest of the newer ones first.
func (j *Journal) Find(ctx context.Context, f EntryFilter) (record.Page[Entry], error) {
	return j.List(ctx, record.Query[Entry]{Span: f.Span, Conditions: f.conditions(), Limit: f.Limit,
		Patience: f.Patience})
}
