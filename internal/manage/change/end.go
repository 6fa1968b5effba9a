package change

import (
	"context"
	"log/slog"
	"sync"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/session"
)

// maxEnding bounds the sessions that clients are asked to end at once without anybody waiting for it.
const maxEnding = 256

// ends are sessions that clients are being asked to end.
type ends struct {
	mu      sync.Mutex
	under   map[ident.ID]bool
	all     sync.WaitGroup
	ctx     context.Context
	cancel  context.CancelFunc
	stopped bool
}

func (e *ends) init() {
	e.under = map[ident.ID]bool{}
	e.ctx, e.cancel = context.WithCancel(context.Background())
}

// End has clients asked to end sessions, on behalf of a rule, without waiting. A session is asked for once at a time.
func (k *Keeper) End(list []*session.Session, by string) {
	for _, s := range list {
		k.ends.mu.Lock()
		taken := !k.ends.stopped && !k.ends.under[s.ID] && len(k.ends.under) < maxEnding
		if taken {
			k.ends.under[s.ID] = true
			k.ends.all.Add(1)
		}
		k.ends.mu.Unlock()
		if !taken {
			continue
		}
		go func() {
			defer k.ends.all.Done()
			if _, err := k.Ask(k.ends.ctx, s.ID, Disconnect, "", by); err != nil && k.ends.ctx.Err() == nil {
				slog.Warn("a session was to end", "session", s.ID, "client", s.Client, "for", by, "error", err)
			}
			k.ends.mu.Lock()
			delete(k.ends.under, s.ID)
			k.ends.mu.Unlock()
		}()
	}
}

// Close gives up what is under way.
func (k *Keeper) Close() {
	k.ends.mu.Lock()
	k.ends.stopped = true
	k.ends.mu.Unlock()
	k.ends.cancel()
	k.ends.all.Wait()
	k.links.close()
}
