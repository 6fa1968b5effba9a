package cluster

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"tollgate.example/key/internal/store"
)

// ErrMajority is returned where a recovery is asked for though a majority of the nodes is there.
var ErrMajority = errors.New("a majority of the nodes is there: nothing has to be recovered")

// Recover makes this node the only one, with what it has: for when the majority is gone for good. The others, should
// they come back, are refused and have to join again.
func (c *Cluster) Recover(ctx context.Context) error {
	c.changing.Lock()
	defer c.changing.Unlock()
	old := c.running()
	if old == nil {
		return ErrAlone
	}
	earlier, err := c.earlier(old.epoch)
	if err != nil {
		return err
	}
	asked, cancel := context.WithTimeout(ctx, 2*time.Second)
	applied := c.o.Store.Applied()
	head, err := old.log.Head(asked, true)
	cancel()
	switch {
	case err == nil && old.putBack(head, applied):
	case err == nil:
		return ErrMajority
	case old.outside != nil && errors.Is(err, ErrAnew):
		// a recovery of this node that ended half-way leaves one of its own earlier logs; that of others stays
		if of, err := old.outside.epoch(ctx); err != nil || !slices.Contains(earlier, of) {
			return ErrAnew
		}
	case old.outside != nil && !errors.Is(err, errNoLog):
		return fmt.Errorf("%w: %s does not answer, and there is nothing else to go on with: bring it back, or "+
			"restore a backup as a single node", store.ErrCutOff, old.where())
	}
	c.mu.Lock()
	c.state = nil
	c.mu.Unlock()
	old.close()
	epoch, self := c.token(), old.self
	defer func() {
		if r := c.running(); r != nil {
			r.peers.reload(ctx)
		}
	}()
	err = c.run(ctx, self, epoch, true, func(r *running) error {
		began, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		if err := c.finish(began, r, old.epoch); err != nil {
			return fmt.Errorf("going on alone: %w: %s", err, r.where())
		}
		if err := c.o.Store.OnlyNode(began, self.Number, self.Member, epoch, time.Now().UnixMilli()); err != nil {
			return err
		}
		state, err := c.o.Store.SharedState(began)
		if err != nil {
			return err
		}
		return r.log.Begin(began, state.Applied, earlier)
	})
	if err == nil {
		return nil
	}
	// as it was: nothing may be changed past the log
	if state, wrong := c.o.Store.SharedState(ctx); wrong == nil {
		epoch = state.Epoch
	}
	return errors.Join(err, c.run(ctx, self, epoch, false, nil))
}

// earlier notes the epoch of the log that this node goes on from, and lists all of them.
func (c *Cluster) earlier(epoch string) ([]string, error) {
	setting, err := loadMembers(c.o.Dir)
	if err == nil && !slices.Contains(setting.Earlier, epoch) {
		setting.Earlier = append(setting.Earlier, epoch)
		err = setting.save(c.o.Dir)
	}
	if err != nil {
		return nil, fmt.Errorf("keeping what this node goes on from: %w", err)
	}
	return setting.Earlier, nil
}

// finish takes over what the engine holds of the log of an epoch, also what this node was only about to learn that a
// majority had. Where there is none, as after a recovery that ended half-way, nothing is left to take over.
func (c *Cluster) finish(ctx context.Context, r *running, epoch string) error {
	log, err := c.logOf(r, epoch)
	if err != nil {
		return err
	}
	for { // until it leads itself
		asked, cancel := context.WithTimeout(ctx, attempt)
		_, err = log.Head(asked, true)
		cancel()
		switch {
		case errors.Is(err, errNoLog), errors.Is(err, ErrAnew):
			return nil
		case err != nil:
			select {
			case <-ctx.Done():
				return err
			case <-time.After(100 * time.Millisecond):
			}
			continue
		}
		break
	}
	unshare, err := c.o.Store.Share(ctx, log)
	if err != nil {
		return err
	}
	defer unshare()
	_, err = log.read(ctx, c.o.Store.Applied, func(list []store.LogEntry) error { return c.take(ctx, list) })
	return err
}
