package onward

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/upstream"
)

// atOnce is how many records are under way to a remote server at once, giveUpAfter how often one is sent in vain while
// others are answered: a server that does not take one record must not keep all others from it.
const (
	atOnce      = 32
	giveUpAfter = 10
)

// forwarding sends accounting to a remote server. What was answered is not sent again.
type forwarding struct {
	server *upstream.Server
	done   map[string]bool // of the present batch, by identifier
	vain   map[string]int
	given  int64
}

// forwards reports whether a record is to be forwarded to a remote server, by its identifier.
func forwards(e *event, remote string) bool {
	return e.accounted != nil && e.accounted.To != "" && slices.Contains(strings.Fields(e.accounted.To), remote)
}

func (f *forwarding) send(ctx context.Context, list []event) error {
	if f.done == nil {
		f.done, f.vain = map[string]bool{}, map[string]int{}
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	var first error
	var failed []string
	answered := false
	slots := make(chan struct{}, atOnce)
	for i := range list {
		id := list[i].id.String()
		mu.Lock() // those that were sent before are noted meanwhile
		done := f.done[id]
		mu.Unlock()
		if done {
			continue
		}
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			err := f.one(ctx, &list[i])
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				f.done[id], answered = true, true
				return
			}
			failed = append(failed, id)
			if first == nil {
				first = err
			}
		})
	}
	all.Wait()
	if first == nil {
		clear(f.done)
		clear(f.vain)
		return nil
	}
	if !answered && len(failed) > 1 { // nobody is there
		return first
	}
	for _, id := range failed {
		if f.vain[id]++; f.vain[id] >= giveUpAfter && (answered || f.reachable(ctx)) {
			f.done[id] = true
			f.given++
			slog.Warn("a record of accounting is not forwarded, since the remote server does not take it",
				"server", f.server.Name, "record", id, "error", first)
		}
	}
	if f.left(list) == 0 {
		clear(f.done)
		clear(f.vain)
		return nil
	}
	return first
}

// reachable asks whether anybody is there at all, when a single record is left.
func (f *forwarding) reachable(ctx context.Context) bool { return f.server.ReachAccounting(ctx) }

// left counts what is still to be answered.
func (f *forwarding) left(list []event) (n int) {
	for i := range list {
		if !f.done[list[i].id.String()] {
			n++
		}
	}
	return n
}

func (f *forwarding) one(ctx context.Context, e *event) error {
	a := e.accounted
	return f.server.Account(ctx, a.Raw, time.Since(a.At))
}

func (f *forwarding) alive() error  { return nil }
func (f *forwarding) certain() bool { return true }
func (f *forwarding) close()        {}
