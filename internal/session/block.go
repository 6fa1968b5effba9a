package session

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

const (
	// blockBits is the size of a block: four addresses.
	blockBits = 2
	blockSize = 1 << blockBits
	// blockEvery is how often a node looks whether it has enough.
	blockEvery = 500 * time.Millisecond
	// leastSpare is how many free addresses of each pool a node has at least, so that it can go on alone; a quarter of
	// those that are taken is enough beyond that. What is over more than surplus of that goes back.
	leastSpare = 16
	surplus    = 8
	// rested is how long the addresses of a node that was removed are left alone: the sessions that have them are on
	// nobody's list.
	rested = 24 * time.Hour
	// candidates is how many blocks are tried at once.
	candidates = 512
)

// BlockStore is where all nodes keep which of them gives which addresses.
type BlockStore interface {
	LeaseBlocks(ctx context.Context) ([]store.LeaseBlock, error)
	LeaseBlock(ctx context.Context, block string) (store.LeaseBlock, error)
	ClaimBlocks(ctx context.Context, list []string, want, node int, now, rested int64) error
	ReleaseBlocks(ctx context.Context, list []string, node int) error
}

// blocks are the parts of pools from which each node gives addresses, so that no two give the same, and each can go on
// alone. The mutex of the keeper guards it.
type blocks struct {
	store BlockStore
	node  int
	of    map[netip.Prefix]store.LeaseBlock
	// mine are those of this node in their order, nil after a change.
	mine []netip.Prefix
}

// blockOf is the block of an address.
func blockOf(a netip.Addr) netip.Prefix {
	p, err := a.Prefix(a.BitLen() - blockBits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// Share has addresses given from blocks of this node alone, since there are others. Those that sessions have already
// are in such blocks when it returns.
func (k *Keeper) Share(ctx context.Context, s BlockStore, node int) error {
	b := &blocks{store: s, node: node, of: map[netip.Prefix]store.LeaseBlock{}}
	rows, err := s.LeaseBlocks(ctx)
	if err != nil {
		return fmt.Errorf("reading which node gives which addresses: %w", err)
	}
	for _, row := range rows {
		if p, err := netip.ParsePrefix(row.Block); err == nil {
			b.of[p] = row
		}
	}
	k.mu.Lock()
	var list []string
	for addr := range k.taken {
		if p := blockOf(addr); b.of[p].Block == "" && !slices.Contains(list, p.String()) {
			list = append(list, p.String())
		}
	}
	k.blocks = b
	k.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	slices.Sort(list)
	now := time.Now()
	err = s.ClaimBlocks(ctx, list, len(list), node, now.UnixMilli(), now.Add(-rested).UnixMilli())
	if errors.Is(err, store.ErrCutOff) { // it begins cut off, with the blocks that it has
		return nil
	}
	if err != nil {
		return fmt.Errorf("claiming the addresses that sessions have: %w", err)
	}
	return k.readBlocks(ctx, list)
}

func (k *Keeper) readBlocks(ctx context.Context, list []string) error {
	for _, block := range list {
		if err := k.ReloadBlock(ctx, block); err != nil {
			return err
		}
	}
	return nil
}

// ReloadBlock reads anew which node gives the addresses of a block.
func (k *Keeper) ReloadBlock(ctx context.Context, block string) error {
	p, err := netip.ParsePrefix(block)
	if err != nil {
		return fmt.Errorf("reading a block of addresses anew: %w", err)
	}
	k.mu.Lock()
	b := k.blocks
	k.mu.Unlock()
	if b == nil {
		return nil
	}
	row, err := b.store.LeaseBlock(ctx, block)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading the block of addresses %s anew: %w", block, err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if b.mine = nil; err != nil {
		delete(b.of, p)
	} else {
		b.of[p] = row
	}
	return nil
}

// ours tells whether this node may give an address to a new session.
func (k *Keeper) ours(a netip.Addr) bool {
	if k.blocks == nil {
		return true
	}
	row, there := k.blocks.of[blockOf(a)]
	return there && row.Node == k.blocks.node
}

// Tend claims blocks ahead of need, and gives back what is too much, until the context ends.
func (k *Keeper) Tend(ctx context.Context, pools func() []*config.Pool) {
	tick := time.NewTicker(blockEvery)
	defer tick.Stop()
	for {
		for _, p := range pools() {
			if err := k.tend(ctx, NewPool(p)); err != nil && !errors.Is(err, store.ErrCutOff) && ctx.Err() == nil {
				slog.Error("claiming addresses for this node", "pool", p.Name, "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// tend claims what one pool lacks on this node, or gives back what it has too much.
func (k *Keeper) tend(ctx context.Context, pool *Pool) error {
	k.mu.Lock()
	b := k.blocks
	if b == nil {
		k.mu.Unlock()
		return nil
	}
	now := time.Now()
	k.release(now)
	need := k.need(pool, now)
	if len(need.over) > 0 {
		b.mine = nil
	}
	k.mu.Unlock()
	switch {
	case need.want > 0 && len(need.free) > 0:
		if err := b.store.ClaimBlocks(ctx, need.free, need.want, b.node, now.UnixMilli(),
			now.Add(-rested).UnixMilli()); err != nil {
			return err
		}
		return k.readBlocks(ctx, need.free)
	case len(need.over) > 0:
		if err := b.store.ReleaseBlocks(ctx, need.over, b.node); err != nil {
			return err
		}
	}
	return nil
}

// need is what a pool lacks on this node: want blocks of those that are free; or blocks that are over.
type need struct {
	want       int
	free, over []string
}

// need looks what a pool lacks. Blocks that are over are given back at once in memory: nobody gets an address of them
// from here on.
func (k *Keeper) need(pool *Pool, now time.Time) (out need) {
	spare, taken := 0, 0
	var idle []netip.Prefix
	for p, row := range k.blocks.of {
		if row.Node != k.blocks.node {
			continue
		}
		here, used := 0, 0
		for a := p.Addr(); p.Contains(a); a = a.Next() {
			if pool.holds(a) {
				if here++; k.taken[a] != nil {
					used++
				}
			}
		}
		spare, taken = spare+here-used, taken+used
		if here > 0 && used == 0 {
			idle = append(idle, p)
		}
	}
	least := max(leastSpare, taken/4)
	switch {
	case spare < least:
		out.want = (2*least - spare + blockSize - 1) / blockSize
		out.free = k.unclaimed(pool, now)
	case spare > surplus*least:
		for _, p := range idle[:min(len(idle), (spare-surplus*least)/blockSize)] {
			out.over = append(out.over, p.String())
			delete(k.blocks.of, p)
		}
	}
	return out
}

// unclaimed lists blocks of a pool that nobody has.
func (k *Keeper) unclaimed(pool *Pool, now time.Time) (out []string) {
	for _, r := range pool.ranges {
		last := r.At(r.Size - 1)
		for a := r.First; a.Compare(last) <= 0 && len(out) < candidates; {
			p := blockOf(a)
			row, there := k.blocks.of[p]
			if !there || row.Node == -1 && now.Sub(time.UnixMilli(row.Since)) > rested {
				out = append(out, p.String())
			}
			for a.IsValid() && p.Contains(a) {
				a = a.Next()
			}
			if !a.IsValid() {
				break
			}
		}
	}
	return out
}

// holds tells whether an address is one of the pool.
func (p *Pool) holds(a netip.Addr) bool {
	return slices.ContainsFunc(p.ranges, func(r config.AddressRange) bool { return r.Contains(a) })
}

// freeOfBlocks finds an address of the blocks of this node that nobody has, going round.
func (k *Keeper) freeOfBlocks(pool *Pool) netip.Addr {
	if k.blocks.mine == nil {
		for p, row := range k.blocks.of {
			if row.Node == k.blocks.node {
				k.blocks.mine = append(k.blocks.mine, p)
			}
		}
		slices.SortFunc(k.blocks.mine, netip.Prefix.Compare)
	}
	mine, begin := k.blocks.mine, k.cursor[pool.name]
	for n := range len(mine) * blockSize {
		at := (begin + n) % (len(mine) * blockSize)
		a := mine[at/blockSize].Addr()
		for range at % blockSize {
			a = a.Next()
		}
		if k.taken[a] == nil && pool.holds(a) {
			k.cursor[pool.name] = at + 1
			return a
		}
	}
	return netip.Addr{}
}
