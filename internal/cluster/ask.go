package cluster

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"tollgate.example/key/internal/store"
)

// Peer is another node that keeps records.
type Peer struct {
	Number int
	Name   string
}

// silentAfter is after how long without an answer a node is not asked any more until it answers again.
const silentAfter = 6 * time.Second

// ErrSilent is returned where another node does not answer.
var ErrSilent = errors.New("it does not answer")

// Name is the name of this node, "" while there is but one.
func (c *Cluster) Name() string {
	if r := c.running(); r != nil {
		return r.self.Name
	}
	return ""
}

// Number is the number of this node.
func (c *Cluster) Number() int {
	if r := c.running(); r != nil {
		return r.self.Number
	}
	return c.o.Number
}

// Members are the nodes with what was seen of the others last. Unlike State it asks nobody.
func (c *Cluster) Members() (out []NodeState) {
	r := c.running()
	if r == nil {
		return nil
	}
	r.peers.mu.RLock()
	defer r.peers.mu.RUnlock()
	for _, n := range r.peers.nodes {
		one := NodeState{Node: n, Self: n.Number == r.self.Number}
		if s := r.peers.seen[n.Number]; s != nil {
			one.Seen = *s
		}
		out = append(out, one)
	}
	return out
}

// Others are the other nodes that keep records.
func (c *Cluster) Others() (out []Peer) {
	r := c.running()
	if r == nil {
		return nil
	}
	for _, n := range r.peers.others() {
		if !n.Witness {
			out = append(out, Peer{n.Number, n.Name})
		}
	}
	return out
}

// Other is another node by its number.
func (c *Cluster) Other(number int) (Peer, bool) {
	for _, p := range c.Others() {
		if p.Number == number {
			return p, true
		}
	}
	return Peer{}, false
}

// Ask makes a call to another node. One that has been silent is not waited for.
func (c *Cluster) Ask(ctx context.Context, to Peer, method, path string, header http.Header, body io.Reader) (
	*http.Response, error) {
	r := c.running()
	if r == nil {
		return nil, ErrAlone
	}
	n, ok := r.peers.node(to.Number)
	if !ok {
		return nil, store.ErrNotFound
	}
	r.peers.mu.RLock()
	seen := r.peers.seen[to.Number]
	r.peers.mu.RUnlock()
	if seen != nil && seen.Silent() {
		return nil, fmt.Errorf("%w: %s", ErrSilent, seen.Wrong)
	}
	q, err := http.NewRequestWithContext(ctx, method, "https://"+n.Address+path, body)
	if err != nil {
		return nil, err
	}
	q.Header = header
	return r.peers.client.Do(q)
}

// First reports whether this node is the first by its number of those that keep records and answer: for work that is to
// be done once. While nodes cannot reach each other, several of them may be.
func (c *Cluster) First() bool {
	r := c.running()
	if r == nil {
		return true
	}
	r.peers.mu.RLock()
	defer r.peers.mu.RUnlock()
	for _, n := range r.peers.nodes {
		if seen := r.peers.seen[n.Number]; n.Number < r.self.Number && !n.Witness && seen != nil && !seen.Silent() {
			return false
		}
	}
	return true
}
