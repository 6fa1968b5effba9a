// Package health remembers which servers of a list do not answer, so that nobody waits for them again, and probes them
// in the background until they do.
package health

import (
	"context"
	"sync"
	"time"
)

// every is how often a server that failed is probed.
const every = 3 * time.Second

// Keeper keeps the state of servers. It is safe for concurrent use.
type Keeper struct {
	probe  func(ctx context.Context, server string) error
	back   func(server string)
	every  time.Duration
	limit  time.Duration
	ctx    context.Context
	cancel context.CancelFunc

	mu   sync.Mutex
	down map[string]time.Time // server -> since when
}

// New makes a keeper. probe tells whether a server answers again, and limit bounds one probe; back is called when it does.
func New(limit time.Duration, probe func(ctx context.Context, server string) error, back func(server string)) *Keeper {
	k := &Keeper{probe: probe, back: back, every: every, limit: limit, down: map[string]time.Time{}}
	k.ctx, k.cancel = context.WithCancel(context.Background())
	return k
}

// Close ends all probing.
func (k *Keeper) Close() { k.cancel() }

// Failed notes that a server does not answer. It is asked after the others until a probe succeeds.
func (k *Keeper) Failed(server string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, already := k.down[server]; already || k.ctx.Err() != nil {
		return
	}
	k.down[server] = time.Now()
	go k.watch(server)
}

// watch probes one server until it answers or the keeper is closed.
func (k *Keeper) watch(server string) {
	tick := time.NewTicker(k.every)
	defer tick.Stop()
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(k.ctx, k.limit)
		err := k.probe(ctx, server)
		cancel()
		if err == nil {
			k.Answers(server)
			k.back(server)
		}
		if !k.Down(server) {
			return
		}
	}
}

// Answers notes that a server answers.
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
