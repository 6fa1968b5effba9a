package session

import (
	"context"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store"
)

// Moved is a session that its client reports here, and whose beginning it reported elsewhere: it asks another node now.
type Moved struct {
	Client  string    `json:"client"`
	NAS     string    `json:"nas"`
	Session string    `json:"session"`
	At      time.Time `json:"at"`
}

// maxMoved bounds the sessions that wait to be told of, and those that a node is told that it missed,
// maxMovedRead how many records are looked at for that.
const (
	maxMoved     = 20_000
	maxMovedRead = 200_000
)

// moved are those that other nodes are still to be told of.
type moved struct {
	mu   sync.Mutex
	list []Moved
}

func (m *moved) add(a *store.Accounted) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.list) < maxMoved {
		m.list = append(m.list, movedOf(a))
	}
}

func movedOf(a *store.Accounted) Moved { return Moved{a.Client, a.NAS, a.Session, a.At} }

// elsewhere tells that a session began at another node, as far as this one knows: its start is not here.
func elsewhere(a *store.Accounted) bool {
	return a.Of == 0 && (a.Kind == store.AccountingInterim || a.Kind == store.AccountingStop)
}

// TakeMoved are the sessions that came here since it was called last.
func (k *Sessions) TakeMoved() []Moved {
	k.moved.mu.Lock()
	defer k.moved.mu.Unlock()
	list := k.moved.list
	k.moved.list = nil
	return list
}

// MovedSince are those that came here since a moment, the latest first: of as many records as can be read shortly,
// since others wait to be told meanwhile.
func (k *Sessions) MovedSince(ctx context.Context, since time.Time) (out []Moved, err error) {
	f := store.AccountingFilter{Limit: 10_000}
	for range maxMovedRead / f.Limit {
		page, err := k.records.Find(ctx, f)
		if err != nil {
			return out, err
		}
		for i := range page.Items {
			a := &page.Items[i]
			if a.ID < ident.At(since) || len(out) >= maxMoved {
				return out, nil
			}
			if elsewhere(a) {
				out = append(out, movedOf(a))
			}
		}
		if page.Next == 0 {
			break
		}
		f.Before = page.Next
	}
	return out, nil
}

// Left ends sessions here that their clients report to another node since.
func (k *Sessions) Left(list []Moved) {
	for _, m := range list {
		k.mu.RLock()
		e := k.open[key{m.Client, m.NAS, m.Session}]
		k.mu.RUnlock()
		if e == nil {
			continue
		}
		if s := e.now.Load(); s != nil && m.At.After(s.At) {
			k.end(s, m.At, CauseElsewhere)
		}
	}
}
