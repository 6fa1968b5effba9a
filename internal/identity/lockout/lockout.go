// Package lockout keeps a directory from locking people out: it counts the wrong passwords that were passed on for each
// person and device, and holds further ones back before the directory would lock the account. A device that keeps
// sending an old password is stopped before the person is.
package lockout

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/core/results"
)

// maxHeld bounds the people that are counted.
const maxHeld = 100_000

// Limits say when to hold back.
type Limits struct {
	// After is how many wrong passwords of a person are passed on within the window; 0 holds nothing back.
	After int
	// Window is how long the directory counts, since the last wrong one.
	Window time.Duration
}

// device is how many of them one device may use up, so that some are left for the others.
func (l Limits) device() int { return (l.After + 1) / 2 }

// Guard counts. It is safe for concurrent use.
type Guard struct {
	// counted is how many people there are, so that nothing has to be locked while there are none.
	counted atomic.Int64
	tell    atomic.Pointer[func(Said)]
	mu      sync.Mutex
	people  map[string]*person
}

// Said is what became of a password, as nodes tell each other.
type Said struct {
	Store, Name, Device string
	Limits              Limits
	Outcome             Outcome
}

// Tell has others told what becomes of passwords here: a directory counts those of all.
func (g *Guard) Tell(tell func(Said)) { g.tell.Store(&tell) }

// Heard counts a password that another node passed on.
func (g *Guard) Heard(s Said) {
	now := time.Now()
	g.mu.Lock()
	defer g.mu.Unlock()
	p := g.people[key(s.Store, s.Name)]
	if p == nil {
		if s.Outcome != Wrong {
			return
		}
		g.room(now)
		p = &person{store: s.Store, name: s.Name, devices: map[string]int{}}
		g.people[key(s.Store, s.Name)] = p
		g.counted.Store(int64(len(g.people)))
	}
	p.settle(s.Device, s.Limits, s.Outcome, now)
}

// settle counts what became of a password.
func (p *person) settle(device string, limits Limits, outcome Outcome, now time.Time) {
	switch outcome {
	case Right:
		p.wrong, p.devices = 0, map[string]int{}
	case Wrong:
		if p.wrong > 0 && now.After(p.until) {
			p.wrong, p.devices = 0, map[string]int{}
		}
		p.wrong++
		p.after = limits.After
		if p.last = now; device != "" && len(p.devices) < 50 {
			p.devices[device]++
		}
		p.until = p.last.Add(limits.Window)
	}
}

type person struct {
	store, name string
	wrong       int
	devices     map[string]int
	last        time.Time
	until       time.Time
	after       int
	// asking are passwords of which the directory has not said yet what they are; settled is closed when one of them
	// is.
	asking  int
	settled chan struct{}
}

// New makes a guard that has counted nothing.
func New() *Guard { return &Guard{people: map[string]*person{}} }

// Ask tells whether a password may be passed on; otherwise it returns what holds it back. After nil, Done must follow.
// While so many passwords are being asked about that the limit could be passed, it waits for their outcome.
func (g *Guard) Ask(ctx context.Context, store, name, device string, limits Limits) (*results.Held, error) {
	for {
		held, wait := g.ask(store, name, device, limits, time.Now())
		if wait == nil {
			return held, nil
		}
		select {
		case <-wait:
		case <-ctx.Done():
			return nil, fmt.Errorf("other passwords of %s were being checked for the whole time limit", name)
		}
	}
}

func key(store, name string) string { return strings.ToLower(store + "\x00" + name) }

func (g *Guard) ask(store, name, device string, limits Limits, now time.Time) (*results.Held, chan struct{}) {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := g.people[key(store, name)]
	if p == nil {
		g.room(now)
		p = &person{store: store, name: name, devices: map[string]int{}}
		g.people[key(store, name)] = p
		g.counted.Store(int64(len(g.people)))
	}
	if p.wrong > 0 && now.After(p.until) {
		p.wrong, p.devices = 0, map[string]int{}
	}
	p.after = limits.After
	if p.wrong >= limits.After {
		return &results.Held{Store: store, Person: name, Wrong: p.wrong, After: limits.After, Until: p.until}, nil
	}
	if n := p.devices[device]; device != "" && n >= limits.device() {
		return &results.Held{Store: store, Person: name, Wrong: n, After: limits.device(), Device: device,
			Until: p.until}, nil
	}
	if p.wrong+p.asking >= limits.After {
		if p.settled == nil {
			p.settled = make(chan struct{})
		}
		return nil, p.settled
	}
	p.asking++
	return nil, nil
}

// Outcome is what became of a password.
type Outcome int

const (
	// Unsaid is an outcome that the directory does not count, such as no answer.
	Unsaid Outcome = iota
	Right
	Wrong
)

// Done notes what became of a password that Ask let pass.
func (g *Guard) Done(store, name, device string, limits Limits, outcome Outcome) {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := g.people[key(store, name)]
	if p == nil {
		return
	}
	if tell := g.tell.Load(); tell != nil && (outcome == Wrong || outcome == Right && p.wrong > 0) {
		(*tell)(Said{store, name, device, limits, outcome})
	}
	p.asking = max(0, p.asking-1)
	p.settle(device, limits, outcome, time.Now())
	if p.settled != nil {
		close(p.settled)
		p.settled = nil
	}
	if p.wrong == 0 && p.asking == 0 {
		delete(g.people, key(store, name))
		g.counted.Store(int64(len(g.people)))
	}
}

// Right notes a password that was found right without being asked about.
func (g *Guard) Right(store, name string) {
	if g.counted.Load() == 0 {
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if p := g.people[key(store, name)]; p != nil {
		if tell := g.tell.Load(); tell != nil && p.wrong > 0 {
			(*tell)(Said{Store: store, Name: name, Outcome: Right})
		}
		p.wrong, p.devices = 0, map[string]int{}
	}
}

// Counted takes over the number that the directory itself counts, where others passed wrong passwords on too. A smaller
// one is not taken: each domain controller counts for itself, and the one that was asked may have seen none of them.
func (g *Guard) Counted(store, name string, n int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if p := g.people[key(store, name)]; p != nil && n > p.wrong && n < 1000 {
		p.wrong = n
	}
}

// room drops those whose time has passed, and if that is not enough, all that nobody is asking about.
func (g *Guard) room(now time.Time) {
	if len(g.people) < maxHeld {
		return
	}
	for k, p := range g.people {
		if p.asking == 0 && now.After(p.until) {
			delete(g.people, k)
		}
	}
	for k, p := range g.people {
		if len(g.people) < maxHeld {
			return
		}
		if p.asking == 0 {
			delete(g.people, k)
		}
	}
}

// Release forgets what was counted for one person of a store, or for all with an empty name. It tells for how many.
func (g *Guard) Release(store, name string) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	n := 0
	for _, p := range g.people {
		if strings.EqualFold(p.store, store) && (name == "" || strings.EqualFold(p.name, name)) && p.wrong > 0 {
			p.wrong, p.devices = 0, map[string]int{}
			n++
		}
	}
	return n
}

// List returns whose passwords are held back now, of one store.
func (g *Guard) List(store string, now time.Time) []results.Held {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := []results.Held{}
	for _, p := range g.people {
		if !strings.EqualFold(p.store, store) || p.after == 0 || now.After(p.until) {
			continue
		}
		limits := Limits{After: p.after}
		if p.wrong >= p.after {
			out = append(out, results.Held{Store: p.store, Person: p.name, Wrong: p.wrong, After: p.after,
				Until: p.until})
			continue
		}
		for device, n := range p.devices {
			if n >= limits.device() {
				out = append(out, results.Held{Store: p.store, Person: p.name, Wrong: n, After: limits.device(),
					Device: device, Until: p.until})
			}
		}
	}
	slices.SortFunc(out, func(a, b results.Held) int { return strings.Compare(a.Person+a.Device, b.Person+b.Device) })
	return out
}
