// Package failover remembers which servers of a list do not answer, so that nobody waits for them again, and probes
// them in the background until they do.
package failover

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"
)

// A server that failed is probed after soonest, then with twice the wait each time, up to every.
const (
	soonest = 200 * time.Millisecond
	every   = 3 * time.Second
)

// Keeper keeps the state of servers. It is safe for concurrent use.
type Keeper struct {
	probe          func(ctx context.Context, server string) error
	back           func(server string)
	soonest, every time.Duration
	limit          time.Duration
	ctx            context.Context
	cancel         context.CancelFunc

	mu sync.Mutex
	// down are the servers that do not answer, watched those that have a watcher; each has one at most.
	down    map[string]failure
	watched map[string]bool
}

// failure is since when a server does not answer, and what was seen first.
type failure struct {
	since time.Time
	why   string
}

// New makes a keeper. probe tells whether a server answers again, and limit bounds one probe; back is called when it
// does.
func New(limit time.Duration, probe func(ctx context.Context, server string) error, back func(server string)) *Keeper {
	k := &Keeper{probe: probe, back: back, soonest: soonest, every: every, limit: limit, down: map[string]failure{},
		watched: map[string]bool{}}
	k.ctx, k.cancel = context.WithCancel(context.Background())
	return k
}

// Close ends all probing.
func (k *Keeper) Close() { k.cancel() }

// Failed notes that a server does not answer, and why. It is asked after the others until a probe succeeds.
func (k *Keeper) Failed(server, why string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.ctx.Err() != nil {
		return
	}
	if _, already := k.down[server]; !already {
		k.down[server] = failure{time.Now(), why}
	}
	if !k.watched[server] {
		k.watched[server] = true
		go k.watch(server)
	}
}

// watch probes one server until it answers or the keeper is closed.
func (k *Keeper) watch(server string) {
	wait := k.soonest
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-timer.C:
		}
		ctx, cancel := context.WithTimeout(k.ctx, k.limit)
		err := k.probe(ctx, server)
		cancel()
		if err == nil {
			k.Answers(server)
			k.back(server)
		}
		if k.over(server) {
			return
		}
		wait = min(2*wait, k.every)
		timer.Reset(wait)
	}
}

// over ends the watcher of a server that answers.
func (k *Keeper) over(server string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	_, down := k.down[server]
	if !down {
		delete(k.watched, server)
	}
	return !down
}

// Answers notes that a server answers: that it did what is asked of it, not that it merely took a connection.
func (k *Keeper) Answers(server string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.down, server)
}

// Down reports whether a server failed lately.
func (k *Keeper) Down(server string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	_, down := k.down[server]
	return down
}

// AllDown says why, and since when, none of the servers answers; "" if one does.
func (k *Keeper) AllDown(servers []string) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var said []string
	var since time.Time
	for _, server := range servers {
		f, down := k.down[server]
		if !down {
			return ""
		}
		if f.since.After(since) {
			since = f.since
		}
		said = append(said, f.why)
	}
	if len(said) == 0 {
		return ""
	}
	return fmt.Sprintf("%s; no server has answered since %s, and they are probed every few seconds",
		strings.Join(said, "; "), since.UTC().Format("15:04:05 UTC"))
}

// Order lists servers as they are to be asked: in the given order, those that failed last.
func (k *Keeper) Order(servers []string) []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := make([]string, 0, len(servers))
	var bad []string
	for _, server := range servers {
		if _, down := k.down[server]; down {
			bad = append(bad, server)
		} else {
			out = append(out, server)
		}
	}
	return append(out, bad...)
}

// Share is how long one of n servers may take, if all of them together have limit: long enough for one that is busy,
// short enough that the next can still be asked.
func Share(limit time.Duration, n int) time.Duration {
	if n < 2 {
		return limit
	}
	return max(limit/3, min(limit, 300*time.Millisecond))
}
