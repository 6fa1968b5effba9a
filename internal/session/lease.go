// Package session gives addresses of pools to sessions, one to each, and never the same to two that may both be open:
// an address is taken until the session must have ended by its time-out.
package session

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

const (
	// grace is how long after the time-out an address stays taken: clocks differ, and devices end sessions late.
	grace = time.Minute
	// flushEvery is how often leases are written.
	flushEvery = 100 * time.Millisecond
)

// Lease is one address that is taken.
type Lease struct {
	Address netip.Addr
	Pool    string
	// Who and Client are the person and the device; Holder tells sessions apart.
	Who    string
	Client string
	Holder string
	At     time.Time
	Until  time.Time
}

// Store is where leases are kept.
type Store interface {
	Leases(ctx context.Context) ([]store.Lease, error)
	LeaseOf(ctx context.Context, address string) (store.Lease, error)
	SaveLeases(ctx context.Context, save []store.Lease, remove []string) error
}

// Keeper holds all leases in memory over the store. It is safe for concurrent use.
type Keeper struct {
	store Store

	mu       sync.Mutex
	taken    map[netip.Addr]*Lease
	byHolder map[string]*Lease // the last of each holder, perhaps over
	ends     endings
	cursor   map[string]int
	blocks   *blocks // nil while there is but one node
	dirty    map[netip.Addr]bool
	stop     chan struct{}
	done     sync.WaitGroup
}

// Open reads what is taken, and begins to write what will be. Seen is when the service was last seen running, zero if
// it is not known: the time since then does not count. The clock may have been set meanwhile, and an address that is
// freed too early may be somebody else's.
func Open(ctx context.Context, s Store, seen time.Time) (*Keeper, error) {
	rows, err := s.Leases(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the leases: %w", err)
	}
	k := &Keeper{store: s, taken: map[netip.Addr]*Lease{}, byHolder: map[string]*Lease{}, cursor: map[string]int{},
		dirty: map[netip.Addr]bool{}, stop: make(chan struct{})}
	now := time.Now()
	if seen.IsZero() {
		seen = now
	}
	for _, row := range rows {
		addr, err := netip.ParseAddr(row.Address)
		if err != nil {
			continue
		}
		l := fromRow(addr, row)
		k.dirty[addr] = true
		if left := min(l.Until.Sub(seen), l.Until.Sub(l.At)); left > 0 {
			l.Until = now.Add(left)
			k.keep(l)
		}
	}
	k.done.Go(k.write)
	return k, nil
}

func fromRow(addr netip.Addr, row store.Lease) *Lease {
	return &Lease{Address: addr, Pool: row.Pool, Who: row.Who, Client: row.Client, Holder: row.Holder,
		At: time.UnixMilli(row.At), Until: time.UnixMilli(row.Until)}
}

// Reload reads the lease of an address anew, which was taken or released by somebody else.
func (k *Keeper) Reload(ctx context.Context, address string) error {
	addr, err := netip.ParseAddr(address)
	if err != nil {
		return fmt.Errorf("reading a lease anew: %w", err)
	}
	row, err := k.store.LeaseOf(ctx, address)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("reading the lease of %s anew: %w", address, err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.dirty[addr] { // ours is newer, and about to be written
		return nil
	}
	if before := k.taken[addr]; before != nil {
		delete(k.taken, addr)
		delete(k.byHolder, before.Holder)
	}
	if err == nil {
		k.keep(fromRow(addr, row))
	}
	return nil
}

func (k *Keeper) keep(l *Lease) {
	k.taken[l.Address] = l
	if l.Holder != "" {
		k.byHolder[l.Holder] = l
	}
	heap.Push(&k.ends, ending{l.Address, l.Until})
}

// Pool is a pool that is ready for taking addresses of it.
type Pool struct {
	name   string
	ranges []config.AddressRange
	size   int
}

// NewPool reads a pool.
func NewPool(p *config.Pool) *Pool {
	ranges, size := p.Parsed()
	return &Pool{p.Name, ranges, size}
}

// Name is the name of the pool.
func (p *Pool) Name() string { return p.name }

// Take gives the holder an address of a pool for so long: the one it has or had last if that is free, or another. The
// address is invalid if all are taken. An empty holder is nobody known, and always gets an address of its own.
func (k *Keeper) Take(pool *Pool, holder, who, client string, now time.Time, length time.Duration) netip.Addr {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.release(now)
	until := now.Add(length + grace)
	if last := k.byHolder[holder]; last != nil && holder != "" && slices.ContainsFunc(pool.ranges,
		func(r config.AddressRange) bool { return r.Contains(last.Address) }) {
		if now := k.taken[last.Address]; now == last || now == nil && k.ours(last.Address) {
			k.give(&Lease{last.Address, pool.name, who, client, holder, last.At, until})
			return last.Address
		}
	}
	addr := k.free(pool)
	if addr.IsValid() {
		k.give(&Lease{addr, pool.name, who, client, holder, now, until})
	}
	return addr
}

func (k *Keeper) give(l *Lease) {
	if before := k.taken[l.Address]; before != nil {
		delete(k.byHolder, before.Holder)
	}
	k.keep(l)
	k.dirty[l.Address] = true
}

// free finds an address that nobody has, going round so that one just released rests as long as can be.
func (k *Keeper) free(pool *Pool) netip.Addr {
	if k.blocks != nil {
		return k.freeOfBlocks(pool)
	}
	begin := k.cursor[pool.name]
	for n := range pool.size {
		at := (begin + n) % pool.size
		i := at
		for _, r := range pool.ranges {
			if i >= r.Size {
				i -= r.Size
				continue
			}
			if addr := r.At(i); k.taken[addr] == nil {
				k.cursor[pool.name] = (at + 1) % pool.size
				return addr
			}
			break
		}
	}
	return netip.Addr{}
}

// release frees what is over.
func (k *Keeper) release(now time.Time) {
	for len(k.ends) > 0 && !k.ends[0].at.After(now) {
		end := heap.Pop(&k.ends).(ending)
		if l := k.taken[end.addr]; l != nil && !l.Until.After(now) {
			delete(k.taken, end.addr)
			k.dirty[end.addr] = true
		}
	}
	if len(k.byHolder) > 2*len(k.taken)+1000 { // who had one long ago is forgotten
		for holder, l := range k.byHolder {
			if k.taken[l.Address] != l {
				delete(k.byHolder, holder)
			}
		}
	}
}

// Release frees one address at once, and reports whether it was taken.
func (k *Keeper) Release(addr netip.Addr) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	l := k.taken[addr]
	if l == nil {
		return false
	}
	delete(k.taken, addr)
	delete(k.byHolder, l.Holder)
	k.dirty[addr] = true
	return true
}

// Hold keeps an address taken for somebody for so long, or a little less: the session that has it is known to be open.
func (k *Keeper) Hold(addr netip.Addr, client, who string, now time.Time, length time.Duration) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if l := k.taken[addr]; l != nil && l.Client == client && l.Who == who && l.Until.Before(now.Add(length/2)) {
		longer := *l
		longer.Until = now.Add(length)
		k.give(&longer)
	}
}

// Ended frees an address whose session is over, if it is still taken for the same.
func (k *Keeper) Ended(addr netip.Addr, client, who string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if l := k.taken[addr]; l != nil && l.Client == client && l.Who == who {
		delete(k.taken, addr)
		k.dirty[addr] = true
	}
}

// List lists what is taken of a pool, by address; of all pools for an empty name.
func (k *Keeper) List(pool string, now time.Time) []Lease {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.release(now)
	out := []Lease{}
	for _, l := range k.taken {
		if pool == "" || strings.EqualFold(l.Pool, pool) {
			out = append(out, *l)
		}
	}
	slices.SortFunc(out, func(a, b Lease) int {
		return cmp.Or(strings.Compare(a.Pool, b.Pool), a.Address.Compare(b.Address))
	})
	return out
}

func (k *Keeper) write() {
	tick := time.NewTicker(flushEvery)
	defer tick.Stop()
	for {
		select {
		case <-k.stop:
			k.flush()
			return
		case <-tick.C:
			k.flush()
		}
	}
}

func (k *Keeper) flush() {
	k.mu.Lock()
	var save []store.Lease
	var remove []string
	for addr := range k.dirty {
		if l := k.taken[addr]; l != nil {
			save = append(save, store.Lease{Address: addr.String(), Pool: l.Pool, Who: l.Who, Client: l.Client,
				Holder: l.Holder, At: l.At.UnixMilli(), Until: l.Until.UnixMilli()})
		} else {
			remove = append(remove, addr.String())
		}
	}
	changed := k.dirty
	k.dirty = map[netip.Addr]bool{}
	k.mu.Unlock()
	if len(changed) == 0 {
		return
	}
	if err := k.store.SaveLeases(context.Background(), save, remove); err != nil {
		slog.Error("writing the leases", "error", err)
		k.mu.Lock()
		for addr := range changed { // once more next time
			k.dirty[addr] = true
		}
		k.mu.Unlock()
	}
}

// Close writes what is left.
func (k *Keeper) Close() {
	close(k.stop)
	k.done.Wait()
}

// endings is a heap of when addresses become free.
type endings []ending

type ending struct {
	addr netip.Addr
	at   time.Time
}

func (e endings) Len() int           { return len(e) }
func (e endings) Less(i, j int) bool { return e[i].at.Before(e[j].at) }
func (e endings) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *endings) Push(x any)        { *e = append(*e, x.(ending)) }
func (e *endings) Pop() any {
	old := *e
	last := old[len(old)-1]
	*e = old[:len(old)-1]
	return last
}
