package cluster

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
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
		if errors.Is(err, store.ErrGap) {
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
		for _, t := range changed[i] {
			c.tell(ctx, t)
		}
		c.o.Store.Told(one.Number)
	}
	return nil
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
		for _, t := range changed {
			c.tell(ctx, t)
		}
		c.o.Store.Told(c.o.Store.Applied())
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
