package device

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/store"
)

const (
	// machineMemory is how long it is remembered that a computer was proven from a MAC address.
	machineMemory = 30 * 24 * time.Hour
	maxMachines   = 200_000
	flushEvery    = 2 * time.Second
)

// Computers remembers from which MAC addresses computers were proven, for people who sign in on them later. It is
// written to the store every few seconds.
type Computers struct {
	store *store.Store

	mu    sync.RWMutex
	seen  map[string]facts.MachineSeen
	dirty map[string]bool
	any   atomic.Bool
	tell  atomic.Pointer[func(mac, name string, at time.Time)]
	stop  chan struct{}
	done  sync.WaitGroup
}

// OpenComputers reads what was seen, and begins to write what will be.
func OpenComputers(ctx context.Context, s *store.Store) (*Computers, error) {
	rows, err := s.SeenComputers(ctx, time.Now().Add(-machineMemory).UnixMilli())
	if err != nil {
		return nil, fmt.Errorf("reading the computers that were seen: %w", err)
	}
	m := &Computers{store: s, seen: make(map[string]facts.MachineSeen, len(rows)), dirty: map[string]bool{},
		stop: make(chan struct{})}
	for _, row := range rows {
		m.seen[row.MAC] = facts.MachineSeen{Name: row.Name, At: time.UnixMilli(row.At)}
	}
	m.any.Store(len(rows) > 0)
	m.done.Go(m.write)
	return m, nil
}

// Tell has others told of each computer that is proven here.
func (m *Computers) Tell(tell func(mac, name string, at time.Time)) { m.tell.Store(&tell) }

// Proven notes that a computer was proven from an address.
func (m *Computers) Proven(mac, name string, at time.Time) {
	if mac == "" {
		return
	}
	if tell := m.tell.Load(); tell != nil {
		(*tell)(mac, name, at)
	}
	m.Heard(mac, name, at)
}

// Heard notes that a computer was proven from an address, here or elsewhere.
func (m *Computers) Heard(mac, name string, at time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.seen) >= maxMachines {
		for old, s := range m.seen { // what is long past goes first; any other one after that
			if at.Sub(s.At) > machineMemory || len(m.seen) >= maxMachines {
				delete(m.seen, old)
			}
		}
	}
	m.any.Store(true)
	m.seen[mac] = facts.MachineSeen{Name: name, At: at}
	m.dirty[mac] = true
}

// Seen returns when a computer was last proven from an address, nil if never.
func (m *Computers) Seen(mac string) *facts.MachineSeen {
	if !m.any.Load() {
		return nil
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	if s, ok := m.seen[mac]; ok {
		return &s
	}
	return nil
}

func (m *Computers) write() {
	tick := time.NewTicker(flushEvery)
	defer tick.Stop()
	for {
		select {
		case <-m.stop:
			m.flush()
			return
		case <-tick.C:
			m.flush()
		}
	}
}

func (m *Computers) flush() {
	m.mu.Lock()
	list := make([]store.SeenComputer, 0, len(m.dirty))
	for mac := range m.dirty {
		if s, ok := m.seen[mac]; ok {
			list = append(list, store.SeenComputer{MAC: mac, Name: s.Name, At: s.At.UnixMilli()})
		}
	}
	clear(m.dirty)
	m.mu.Unlock()
	if len(list) == 0 {
		return
	}
	if err := m.store.SaveSeenComputers(context.Background(), list); err != nil {
		slog.Error("writing the computers that were seen", "error", err)
	}
}

// Close writes what is left.
func (m *Computers) Close() {
	close(m.stop)
	m.done.Wait()
}
