package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

// Copies are what other nodes recorded, as far as it is copied to this one.
type Copies struct {
	attempts   *record.Copies[Attempt]
	journal    *record.Copies[Entry]
	accounting *record.Copies[Accounted]
	kinds      map[string]adopter

	dir   string
	mu    sync.Mutex
	names map[int]string
}

// Names of the kinds of records that are copied.
const (
	KindAttempts   = "attempts"
	KindJournal    = "journal"
	KindAccounting = "accounting"
)

// adopter keeps copies of one kind.
type adopter interface {
	Adopt(ctx context.Context, node int, blocks []record.Block, whole bool) (ident.ID, error)
	Nodes() []int
	Until(node int) time.Time
	Close() error
}

// OpenCopies opens the copies in a data directory. They are kept as long as the records of this node. The function is
// called with attempts of other nodes as they come, without their facts; nil for nobody.
func OpenCopies(ctx context.Context, dir string, ofAttempts, ofJournal, ofAccounting record.Retention,
	came func([]*Attempt)) (*Copies, error) {
	c := &Copies{kinds: map[string]adopter{}, dir: filepath.Join(dir, "copies"), names: map[int]string{}}
	var err error
	if c.attempts, err = record.OpenCopies(ctx, dir, attempts(came), ofAttempts); err != nil {
		return nil, err
	}
	c.kinds[KindAttempts] = c.attempts
	if c.journal, err = record.OpenCopies(ctx, dir, entries, ofJournal); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	c.kinds[KindJournal] = c.journal
	if c.accounting, err = record.OpenCopies(ctx, dir, accounting(nil), ofAccounting); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	c.kinds[KindAccounting] = c.accounting
	for node := range c.Nodes() {
		if name, err := os.ReadFile(c.nameFile(node)); err == nil {
			c.names[node] = string(name)
		}
	}
	return c, nil
}

func (c *Copies) nameFile(node int) string { return filepath.Join(c.dir, strconv.Itoa(node), "name") }

// named remembers how a node is called, for when it is none any more.
func (c *Copies) named(node int, name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.names[node] == name {
		return
	}
	if err := os.WriteFile(c.nameFile(node), []byte(name), 0o600); err != nil {
		slog.Warn("keeping the name of a node", "node", name, "error", err)
	}
	c.names[node] = name
}

// Adopt keeps blocks that a node sent, see record.Keeper.Adopt. Name is that of the node.
func (c *Copies) Adopt(ctx context.Context, kind string, node int, name string, blocks []record.Block, whole bool) (
	ident.ID, error) {
	of := c.kinds[kind]
	if of == nil {
		return 0, fmt.Errorf("copying %q: %w", kind, ErrNotFound)
	}
	last, err := of.Adopt(ctx, node, blocks, whole)
	if err == nil {
		c.named(node, name)
	}
	return last, err
}

// Nodes are the numbers of the nodes of which something is here, with their names.
func (c *Copies) Nodes() map[int]string {
	out := map[int]string{}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, of := range c.kinds {
		for _, node := range of.Nodes() {
			out[node] = c.names[node]
		}
	}
	return out
}

// Has reports whether something of a kind is here that a node recorded.
func (c *Copies) Has(kind string, node int) bool {
	of := c.kinds[kind]
	return of != nil && slices.Contains(of.Nodes(), node)
}

// Until is when a kind held all that a node had recorded; zero if it never did since the start.
func (c *Copies) Until(kind string, node int) time.Time {
	if of := c.kinds[kind]; of != nil {
		return of.Until(node)
	}
	return time.Time{}
}

// Attempts are those of another node, nil if none are here; Journal and Accounting alike.
func (c *Copies) Attempts(node int) *Attempts {
	if k := c.attempts.Of(node); k != nil {
		return &Attempts{Keeper: k}
	}
	return nil
}

// Journal is the gear journal of another node.
func (c *Copies) Journal(node int) *Journal {
	if k := c.journal.Of(node); k != nil {
		return &Journal{k}
	}
	return nil
}

// Accounting is what another node recorded of sessions.
func (c *Copies) Accounting(node int) *Accounting {
	if k := c.accounting.Of(node); k != nil {
		return &Accounting{k}
	}
	return nil
}

// RemoveOldest gives room back: copies of attempts go, those of nothing else.
func (c *Copies) RemoveOldest(ctx context.Context, blocks int) (int64, error) {
	return c.attempts.RemoveOldest(ctx, blocks)
}

// Shrink gives the room of what was removed back to the disk.
func (c *Copies) Shrink(ctx context.Context) error { return c.attempts.Shrink(ctx) }

// Close closes the files.
func (c *Copies) Close() (err error) {
	for _, of := range c.kinds {
		err = errors.Join(err, of.Close())
	}
	return err
}
