package record

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// Copies are copies of what other nodes recorded of one kind, of each node in a file of its own. They are safe for
// concurrent use.
type Copies[T any] struct {
	dir  string
	kind Kind[T]
	keep Retention

	mu    sync.Mutex
	of    map[int]*Keeper[T]
	until map[int]time.Time
	ended bool
}

// maxNode is the highest number of a node; see ident.
const maxNode = 255

// OpenCopies opens the copies that are in a data directory. Written of the kind is told of what is adopted.
func OpenCopies[T any](ctx context.Context, dir string, kind Kind[T], keep Retention) (*Copies[T], error) {
	c := &Copies[T]{dir: filepath.Join(dir, "copies"), kind: kind, keep: keep, of: map[int]*Keeper[T]{},
		until: map[int]time.Time{}}
	list, err := os.ReadDir(c.dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("reading which nodes have copies here: %w", err)
	}
	for _, e := range list {
		node, err := strconv.Atoi(e.Name())
		if err != nil || node < 0 || node > maxNode {
			continue
		}
		if _, err := os.Stat(filepath.Join(c.dir, e.Name(), kind.Name+".db")); err != nil {
			continue
		}
		if _, err := c.open(ctx, node); err != nil {
			return nil, errors.Join(err, c.Close())
		}
	}
	return c, nil
}

func (c *Copies[T]) open(ctx context.Context, node int) (*Keeper[T], error) {
	dir := filepath.Join(c.dir, strconv.Itoa(node))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making room for copies of node %d: %w", node, err)
	}
	k, err := Open(ctx, dir, ident.NewSource(uint8(node)), c.kind, c.keep)
	if err != nil {
		return nil, fmt.Errorf("opening the copies of node %d: %w", node, err)
	}
	c.of[node] = k
	return k, nil
}

// Of is what another node recorded, nil if nothing of it is here.
func (c *Copies[T]) Of(node int) *Keeper[T] {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.of[node]
}

// Nodes are the numbers of the nodes of which there are copies.
func (c *Copies[T]) Nodes() (out []int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for node := range c.of {
		out = append(out, node)
	}
	slices.Sort(out)
	return out
}

// Until is when the copies of a node held all that it had recorded; zero if they never did since the start.
func (c *Copies[T]) Until(node int) time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.until[node]
}

// Adopt keeps what a node recorded, see Keeper.Adopt. Whole tells that this is all that it has.
func (c *Copies[T]) Adopt(ctx context.Context, node int, blocks []Block, whole bool) (ident.ID, error) {
	if node < 0 || node > maxNode {
		return 0, fmt.Errorf("there is no node %d", node)
	}
	c.mu.Lock()
	k, err := c.of[node], error(nil)
	switch {
	case c.ended:
		err = ErrClosed
	case k == nil:
		k, err = c.open(ctx, node)
	}
	c.mu.Unlock()
	if err != nil {
		return 0, err
	}
	last, err := k.Adopt(ctx, blocks)
	if err == nil && whole {
		c.mu.Lock()
		c.until[node] = time.Now()
		c.mu.Unlock()
	}
	return last, err
}

func (c *Copies[T]) all() (out []*Keeper[T]) {
	for _, node := range c.Nodes() {
		out = append(out, c.Of(node))
	}
	return out
}

// RemoveOldest removes up to so many blocks of each node, and tells how many records that were.
func (c *Copies[T]) RemoveOldest(ctx context.Context, blocks int) (sum int64, err error) {
	for _, k := range c.all() {
		n, e := k.RemoveOldest(ctx, blocks)
		sum, err = sum+n, errors.Join(err, e)
	}
	return sum, err
}

// Shrink gives the room of what was removed back to the disk.
func (c *Copies[T]) Shrink(ctx context.Context) (err error) {
	for _, k := range c.all() {
		err = errors.Join(err, k.Shrink(ctx))
	}
	return err
}

// Close closes the files.
func (c *Copies[T]) Close() (err error) {
	c.mu.Lock()
	c.ended = true
	c.mu.Unlock()
	for _, k := range c.all() {
		err = errors.Join(err, k.Close())
	}
	return err
}
