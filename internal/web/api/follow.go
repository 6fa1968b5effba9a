package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/live"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

// Beat keeps a quiet stream alive and proves that it is.
type Beat struct {
	At time.Time `json:"at"`
}

const (
	beatEvery  = 5 * time.Second
	maxCatchUp = 500
)

// liveOperation describes a call that answers with events.
func liveOperation(path, id, summary string) huma.Operation {
	op := operation("GET", path, id, summary)
	op.Middlewares = huma.Middlewares{func(ctx huma.Context, next func(huma.Context)) {
		ctx.SetHeader("Cache-Control", "no-store")
		ctx.SetHeader("X-Accel-Buffering", "no")
		next(ctx)
	}}
	return op
}

// follower is what one stream sends of what is recorded.
type follower[T any] struct {
	id   func(*T) ident.ID
	fits func(*T) bool
	view func(*T) any
	// after reads what fits and is newer than an identifier, the oldest first.
	after func(id ident.ID, limit int) (record.Page[T], error)
}

// follow sends what is recorded until the follower goes away, may no longer see it, or the
// service ends, after what was recorded since last.
func follow[T any](ctx context.Context, s *server, hub *live.Hub[*T], send sse.Sender, last ident.ID, f follower[T]) {
	listener := hub.Listen()
	if listener == nil {
		return
	}
	defer listener.Close()
	if send.Data(Beat{time.Now()}) != nil {
		return
	}
	last, err := f.catchUp(send, last)
	if err != nil {
		return
	}
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	seen := time.Now() // nothing before was left out
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-s.Done:
			return
		case <-beat.C:
			if !s.still(ctx) {
				return
			}
			err = send.Data(Beat{time.Now()})
		case one := <-listener.Events:
			if f.id(one) > last && f.fits(one) {
				err = send(sse.Message{ID: int(f.id(one)), Data: f.view(one)})
			}
		}
		if lost := listener.Lost(); err == nil && lost > 0 {
			err = send.Data(apitype.Gap{Lost: lost, Since: seen, Until: time.Now()})
		}
		if err != nil {
			return
		}
		if len(listener.Events) == 0 {
			seen = time.Now()
		}
	}
}

// catchUp sends what was recorded while a follower was away, and returns the newest identifier that needs not be sent
// any more. If there is too much, it says from when on something is missing.
func (f *follower[T]) catchUp(send sse.Sender, last ident.ID) (ident.ID, error) {
	if last == 0 {
		return 0, nil
	}
	page, err := f.after(last, maxCatchUp)
	if err != nil {
		// what is missing can be read as a list
		return last, send.Data(apitype.Gap{Since: last.Time(), Until: time.Now()})
	}
	for i := range page.Items {
		last = f.id(&page.Items[i])
		if err := send(sse.Message{ID: int(last), Data: f.view(&page.Items[i])}); err != nil {
			return last, err
		}
	}
	if page.Next != 0 {
		err = send.Data(apitype.Gap{Since: max(last, page.Next).Time(), Until: time.Now()})
	}
	return last, err
}
