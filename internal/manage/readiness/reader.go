package readiness

import (
	"context"
	"time"

	"tollgate.example/key/internal/store"
)

const (
	// UsualDays is how far back attempts are looked at unless it is said.
	UsualDays = 30
	// patience is how long attempts are looked at.
	patience = 5 * time.Second
)

// Reader reads who is ready, one at a time, since it goes through the attempts.
type Reader struct {
	// Facts and Enrolled are those of Input; Accounts are the people who have an account here.
	Facts    func(ctx context.Context, span store.Span, limit int) ([]store.Attempt, error)
	Accounts func() []Person
	Enrolled func(store, name string, now time.Time) (enrolled, locked bool)

	reading chan struct{}
}

// NewReader makes one.
func NewReader(r Reader) *Reader {
	r.reading = make(chan struct{}, 1)
	return &r
}

// Report tells who is ready, of those who signed in during so many days or have an account.
func (r *Reader) Report(ctx context.Context, days int) (*Report, error) {
	select {
	case r.reading <- struct{}{}:
		defer func() { <-r.reading }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	now := time.Now()
	return Gather(ctx, Input{Facts: r.Facts, Since: now.AddDate(0, 0, -days), Now: now, Patience: patience,
		Accounts: r.Accounts(), Enrolled: func(store, name string) (bool, bool) {
			return r.Enrolled(store, name, now)
		}})
}
