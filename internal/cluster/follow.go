package cluster

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"tollgate.example/key/internal/store"
)

// follow brings entries of the log into the database, and tells the owners of records.
func (c *Cluster) follow(ctx context.Context, r *running) {
	wait := 100 * time.Millisecond
	for ctx.Err() == nil {
		err := r.log.Follow(ctx, c.o.Store.Applied, func(list []store.LogEntry) error {
			wait = 100 * time.Millisecond
			return c.take(ctx, list)
		})
		if errors.Is(err, store.ErrGap) || errors.Is(err, store.ErrDiverged) {
			if err = c.resync(ctx, r); err == nil {
				continue
			}
		}
		c.setStuck(ctx, err)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

func (c *Cluster) setStuck(ctx context.Context, err error) {
	why := ""
	if err != nil && ctx.Err() == nil && !quietError(err) {
		why = err.Error()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if why != "" && why != c.stuck {
		c.o.Log.Error("what other nodes changed cannot be taken over", "error", err)
	}
	c.stuck = why
}

// take brings entries into the database and tells owners.
func (c *Cluster) take(ctx context.Context, list []store.LogEntry) error {
	changed, err := c.o.Store.Apply(ctx, list)
	if err != nil {
		return err
	}
	c.setStuck(ctx, nil)
	for i, one := range list {
		var news []store.Touched
		if i < len(changed) {
			news = changed[i]
		}
		c.news.add(one.Number, news)
	}
	return nil
}

// news is what owners are still to be told, in the order of the log. They are told by a goroutine of their own: an
// owner may be waiting, with its lock held, for a change of its own to come back, and that is brought by another one.
type news struct {
	mu    sync.Mutex
	list  []notice
	ready chan struct{}
}

// notice is up to which entry owners know when they were told of what it changed.
type notice struct {
	number int64
	list   []store.Touched
}

func (n *news) add(number int64, list []store.Touched) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if last := len(n.list) - 1; len(list) == 0 && last >= 0 && len(n.list[last].list) == 0 {
		n.list[last].number = number // nothing to tell but the number
	} else {
		n.list = append(n.list, notice{number, list})
	}
	select {
	case n.ready <- struct{}{}:
	default:
	}
}

func (n *news) take() []notice {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := n.list
	n.list = nil
	return out
}

// spread tells owners what other nodes changed, until the context ends.
func (c *Cluster) spread(ctx context.Context) {
	for {
		c.tellAll(ctx)
		select {
		case <-c.news.ready:
		case <-ctx.Done():
			return
		}
	}
}

// tellAll tells owners what there is to tell.
func (c *Cluster) tellAll(ctx context.Context) {
	for _, one := range c.news.take() {
		for _, t := range one.list {
			c.o.Catch(func() { c.tell(ctx, t) })
		}
		c.o.Store.Told(one.number)
	}
}

func (c *Cluster) tell(ctx context.Context, t store.Touched) {
	if t.Kind == "node" {
		if r := c.running(); r != nil {
			r.peers.reload(ctx)
		}
		return
	}
	if err := c.o.Tell(ctx, t.Kind, t.ID); err != nil {
		c.o.Log.Error(
			"a change of another node could not be taken into use",
			"kind",
			t.Kind,
			"id",
			t.ID,
			"error",
			err,
		)
	}
}

// resync takes the whole state of another node over.
func (c *Cluster) resync(ctx context.Context, r *running) error {
	path := filepath.Join(c.o.Dir, "snapshot.db")
	defer os.Remove(path)
	var failed error
	for _, n := range r.peers.others() {
		if n.Witness {
			continue
		}
		err := r.peers.snapshot(ctx, n, path)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("from %s: %w", n.Name, err))
			continue
		}
		changed, err := c.o.Store.TakeSnapshot(ctx, path)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("from %s: %w", n.Name, err))
			continue
		}
		c.o.Log.Info("this node was away for long, and took the state of another one over", "node", n.Name)
		c.news.add(c.o.Store.Applied(), changed)
		return nil
	}
	return fmt.Errorf("taking the state of another node over: %w", errors.Join(failed, errNobody(failed)))
}

func errNobody(failed error) error {
	if failed == nil {
		return errors.New("none is there")
	}
	return nil
}
