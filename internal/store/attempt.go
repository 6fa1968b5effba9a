package store

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// Attempt is one recorded attempt.
type Attempt struct {
	// At is when it began; ID follows the order of recording.
	At       time.Time
	ID       ident.ID
	Verdict  string
	Reason   string
	Client   string
	Who      string
	Sent     string
	Display  string
	MAC      string
	Place    string
	Lane     string
	Policy   string
	Pass     string
	VLAN     string
	Revision int
	Micros   int64
	// Facts are what it was decided by, as JSON. Lists have them only where the rest does not say how it ended.
	Facts []byte

	// Class is what the client was given to send back in accounting, in hexadecimal digits; "" for none.
	Class string
	// Method is how the identity was to be proven; "" for attempts that were recorded before it was.
	Method string

	// PolicyID and Group are the policy that decided, and the row of its table; Trial marks what an operator tried.
	// They only count hits.
	PolicyID string
	Group    string
	Trial    bool
}

// attempts is the kind of record that attempts are. They come in thousands and prevent nothing, so they do not wait for
// the disk.
func attempts(written func([]*Attempt)) record.Kind[Attempt] {
	return record.Kind[Attempt]{Name: "attempts", Written: written,
		Key: func(a *Attempt) (*ident.ID, *time.Time) { return &a.ID, &a.At },
		Fields: func(f *record.Fields, a *Attempt) {
			f.Term("verdict", &a.Verdict)
			f.Term("reason", &a.Reason)
			f.Term("client", &a.Client)
			f.Term("who", &a.Who)
			f.TermUnless("sent", &a.Sent, a.Who)
			f.Term("display", &a.Display)
			f.Term("mac", &a.MAC)
			f.Text(&a.Place)
			f.Term("lane", &a.Lane)
			f.Text(&a.Policy)
			f.Text(&a.Pass)
			f.Text(&a.VLAN)
			f.Whole(&a.Revision)
			f.Int(&a.Micros)
			f.Body(&a.Facts)
			f.Term("class", &a.Class)
			f.Text(&a.Method)
		}}
}

// Attempts are the recorded attempts, in a file of their own.
type Attempts struct {
	*record.Keeper[Attempt]
	store  *Store
	hits   hitCounts
	ending context.CancelFunc
	ended  chan struct{}
}

// hitsEvery is how often hits are brought into the database.
const hitsEvery = 2 * time.Second

// OpenAttempts opens or creates the attempts in a data directory. The function is called with each batch after its
// commit, in order. How often policies decided is counted in the store.
func OpenAttempts(ctx context.Context, dir string, ids *ident.Source, s *Store, keep record.Retention,
	written func([]*Attempt)) (*Attempts, error) {
	a := &Attempts{store: s, hits: hitCounts{sums: map[hit]counted{}}, ended: make(chan struct{})}
	var err error
	if a.Keeper, err = record.Open(ctx, dir, ids, attempts(func(batch []*Attempt) {
		a.hits.count(batch)
		if written != nil {
			written(batch)
		}
	}), keep); err != nil {
		return nil, err
	}
	if err := s.moveAttempts(ctx, a.Keeper); err != nil {
		return nil, errors.Join(err, a.Keeper.Close())
	}
	running, cancel := context.WithCancel(context.Background())
	a.ending = cancel
	go a.flushHits(running)
	return a, nil
}

func (a *Attempts) flushHits(ctx context.Context) {
	defer close(a.ended)
	tick := time.NewTicker(hitsEvery)
	defer tick.Stop()
	for warned := false; ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		err := a.hits.flush(context.WithoutCancel(ctx), a.store)
		if err != nil && !warned {
			slog.Warn("hits wait for the database", "error", err)
		}
		warned = err != nil
	}
}

// Close records what is queued, and closes the file.
func (a *Attempts) Close() error {
	a.ending()
	<-a.ended
	return errors.Join(a.Keeper.Close(), a.hits.flush(context.Background(), a.store))
}

// Find lists attempts from the newest to the oldest; with After alone, the oldest of the newer ones first, which is
// what following needs.
func (a *Attempts) Find(ctx context.Context, f Filter) (record.Page[Attempt], error) {
	return a.List(ctx, record.Query[Attempt]{Span: f.Span, Conditions: f.conditions(), Limit: f.Limit,
		Patience: f.Patience, Bodies: func(a *Attempt) bool { return a.Verdict != "admitted" || a.Policy == "" }})
}

// Facts lists attempts with their facts: the newest before a cursor, or the oldest after one.
func (a *Attempts) Facts(ctx context.Context, span record.Span, limit int) ([]Attempt, error) {
	page, err := a.List(ctx, record.Query[Attempt]{Span: span, Limit: limit,
		Bodies: func(*Attempt) bool { return true }})
	return page.Items, err
}

// Minute counts the attempts of one minute.
type Minute struct {
	Minute   int64 // minutes since 1970
	Admitted int
	Refused  int
}

// countedAtStart bounds how many attempts CountByMinute reads.
const countedAtStart = 500_000

// CountByMinute counts attempts since a moment, the newest first, up to some hundred thousand.
func (a *Attempts) CountByMinute(ctx context.Context, since time.Time) ([]Minute, error) {
	var out []Minute
	at := map[int64]int{}
	span := record.Span{Since: since}
	for read := 0; read < countedAtStart; {
		page, err := a.List(ctx, record.Query[Attempt]{Span: span, Limit: 20_000})
		if err != nil {
			return nil, err
		}
		for i := range page.Items {
			minute := page.Items[i].At.Unix() / 60
			place, known := at[minute]
			if !known {
				place = len(out)
				at[minute], out = place, append(out, Minute{Minute: minute})
			}
			if page.Items[i].Verdict == "admitted" {
				out[place].Admitted++
			} else {
				out[place].Refused++
			}
		}
		if read += len(page.Items); page.Next == 0 {
			break
		}
		span.Before = page.Next
	}
	return out, nil
}
