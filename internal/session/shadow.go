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

// Read brings the sessions up to the records, as far as that can be done shortly. They are for looking at alone.
func (s *Shadow) Read(ctx context.Context, records *store.Accounting) *Book {
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
	return s.book
}
