package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/base/live"
)

// Gap tells a follower that attempts were left out, because too many came at once.
type Gap struct {
	Lost int `json:"lost"`
}

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
	// catchUp sends what was recorded while the follower was away, and returns the newest identifier sent.
	catchUp func() ident.ID
	id      func(T) ident.ID
	fits    func(T) bool
	view    func(T) any
}

// follow sends what is recorded until the follower goes away or the service ends.
func follow[T any](ctx context.Context, s *server, hub *live.Hub[T], send sse.Sender, f follower[T]) {
	listener := hub.Listen()
	if listener == nil {
		return
	}
	defer listener.Close()
	if send.Data(Beat{time.Now()}) != nil {
		return
	}
	last := f.catchUp()
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-s.Done:
			return
		case <-beat.C:
			err = send.Data(Beat{time.Now()})
		case one := <-listener.Events:
			if f.id(one) > last && f.fits(one) {
				err = send(sse.Message{ID: int(f.id(one)), Data: f.view(one)})
			}
		}
		if lost := listener.Lost(); lost > 0 && err == nil {
			err = send.Data(Gap{lost})
		}
		if err != nil {
			return
		}
	}
}
