package session

import (
	"context"
	"log/slog"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// Shadow are the open sessions of another node, as a copy of its records tells them. It is safe for concurrent use.
type Shadow struct {
	turn chan struct{}
	book *Book
}

// NewShadow knows nothing yet.
func NewShadow() *Shadow { return &Shadow{turn: make(chan struct{}, 1), book: newBook(nil)} }

// shadowPatience is how long somebody waits for a shadow to be brought up to the records: the next one goes on.
const shadowPatience = time.Second

// Read brings the sessions up to the records, as far as that can be done shortly. Of those that their clients report
// here since, what is here counts.
func (s *Shadow) Read(ctx context.Context, records *store.Accounting, here *Book) *Book {
	select {
	case s.turn <- struct{}{}:
		defer func() { <-s.turn }()
	case <-ctx.Done():
		return s.book
	}
	span := store.Span{After: s.book.applied}
	if span.After == 0 {
		span.After = ident.At(time.Now().Add(-replayed))
	}
	for begun := time.Now(); time.Since(begun) < shadowPatience; {
		page, err := records.Find(ctx, store.AccountingFilter{Span: span, Limit: 10_000})
		if err != nil {
			slog.Warn("reading the sessions of another node", "error", err)
			break
		}
		list := make([]*store.Accounted, len(page.Items))
		for i := range page.Items {
			list[i] = &page.Items[i]
			list[i].Silence = (&config.ClientSessions{}).Silence()
		}
		s.book.written(list)
		clear(s.book.dirty) // nobody saves them
		if page.Next == 0 {
			break
		}
		span.After = page.Next
	}
	s.book.yield(here)
	return s.book
}

// yield lets go of sessions of which more is known in another book.
func (b *Book) yield(to *Book) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for k, e := range b.open {
		if s := e.now.Load(); s != nil && to.later(k, s.At) {
			b.close(k, e, false)
		}
	}
	clear(b.dirty)
}

// later tells that something was reported of a session after a moment.
func (b *Book) later(k key, at time.Time) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	if e := b.open[k]; e != nil {
		s := e.now.Load()
		return s != nil && s.At.After(at)
	}
	end, ended := b.ended[k]
	return ended && end.at.After(at)
}
