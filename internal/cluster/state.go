package cluster

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/cluster/engine"
	"tollgate.example/key/internal/store"
)

// TakeCodes and RefuseCodes are what becomes of one-time codes while no majority is reached.
const (
	TakeCodes   = "take"
	RefuseCodes = "refuse"
)

// NodeState is how a node does, as this one sees it.
type NodeState struct {
	store.Node
	Self bool
	Seen Seen
}

// Silent tells that a node does not answer any more, or never did though it was asked for a while.
func (s *Seen) Silent() bool { return s.Wrong != "" && time.Since(s.At) > silentAfter }

// State is how the nodes do, as this one sees them.
type State struct {
	// Shared tells that there are several nodes. Outside names the etcd cluster by which they share state, "" where
	// each has an engine of its own.
	Shared  bool
	Outside string
	Nodes   []NodeState
	// Majority tells that this node reaches a majority; CutOff since when it does not.
	Majority bool
	CutOff   time.Time
	// Head is the last entry of the log as far as this node knows, Applied how far it has come.
	Head, Applied int64
	// Stuck says why entries cannot be taken over, Removed that this node is none of the others any more.
	Stuck   string
	Removed bool
}

// quietError tells errors that only say that the engine is not there.
func quietError(err error) bool {
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) ||
		strings.Contains(err.Error(), "Unavailable") || strings.Contains(err.Error(), "etcdserver: no leader") ||
		strings.Contains(err.Error(), "DeadlineExceeded")
}

// State looks how the nodes do.
func (c *Cluster) State(ctx context.Context) State {
	r := c.running()
	if r == nil {
		return State{Majority: true}
	}
	out := State{Shared: true, Applied: c.o.Store.Applied()}
	asked, cancel := context.WithTimeout(ctx, attempt)
	defer cancel()
	out.Head, _ = r.log.Head(asked, false)
	c.mu.Lock()
	out.Stuck, out.CutOff = c.stuck, c.cutOff
	out.Majority, out.Head = c.met && c.cutOff.IsZero(), max(out.Head, c.head)
	c.mu.Unlock()
	_, here := r.peers.node(r.self.Number)
	out.Removed = !here || r.self.Address == "" || strings.Contains(r.engineState().Why, engine.Removed)
	if r.outside != nil {
		out.Outside = r.outside.Where()
	}
	out.Nodes = c.Members()
	for i := range out.Nodes {
		if out.Nodes[i].Self {
			out.Nodes[i].Seen = Seen{At: time.Now(), Own: c.own(r)}
		}
	}
	return out
}

// majority notes whether this node reaches a majority of the nodes. When it does again, what was done here alone is
// brought together with what others did.
func (c *Cluster) majority(ctx context.Context, r *running) {
	asked, cancel := context.WithTimeout(ctx, majorityTime)
	defer cancel()
	applied := c.o.Store.Applied()
	head, err := r.log.Head(asked, true)
	if ctx.Err() != nil {
		return
	}
	if err == nil && r.putBack(head, applied) {
		err = fmt.Errorf("its log ends at entry %d, and this node has come to %d: it was put back to an older state. "+
			"Begin it anew at the node that has come furthest: tollgate node recover", head, applied)
	}
	var wrong *string
	if err != nil {
		text := "it does not answer"
		if !quietError(err) {
			text = err.Error()
		}
		wrong = &text
	}
	r.wrong.Store(wrong)
	c.mu.Lock()
	switch {
	case err == nil:
		c.cutOff, c.met, c.head = time.Time{}, true, head
	case c.cutOff.IsZero():
		c.cutOff = time.Now()
	}
	gone := !c.cutOff.IsZero() && time.Since(c.cutOff) > majorityTime
	c.mu.Unlock()
	if _, here := r.peers.node(r.self.Number); r.outside != nil && !here {
		gone = true // no engine of ours keeps a removed node from changing anything
	}
	r.log.cutOff.Store(gone)
	if err == nil && c.o.Store.Applied() >= head && c.o.Reunite != nil {
		if err := c.o.Reunite(ctx); err != nil && ctx.Err() == nil {
			c.o.Log.Error("sharing what was done here while no majority was reached", "error", err)
		}
	}
}

// putBack tells that an etcd cluster was put back to an older state than this node has: what it would take now, others
// have not.
func (r *running) putBack(head, applied int64) bool { return r.outside != nil && head < applied }

// majorityTime is how long a majority may take to answer: another leader is found by then.
const majorityTime = 1500 * time.Millisecond
