package server

import (
	"container/list"
	"crypto/rand"
	"sync"
	"time"
)

// State is what the State attribute carries from one round to the next (RFC 3579 section 2.6.1): random, so that
// nobody can guess another's.
type State [16]byte

// Open is a conversation with what the caller keeps beside it.
type Open[T any] struct {
	*Conversation
	State State
	Keep  T

	at     time.Time
	weight int
	owner  *owner
	place  *list.Element // among all
	among  *list.Element // among those of its owner
	parted *list.Element // among those that have been told the outcome, nil before
	told   time.Time
	// thinking tells that a person was asked for something.
	thinking bool
}

// owner is whose devices have conversations: a client.
type owner struct {
	name  string
	order *list.List
}

// Limits bound a book.
type Limits struct {
	// Open is how many conversations may be under way, Weight how many octets they may hold together. One owner may
	// have half of each, so that a flood behind one client leaves room for the others.
	Open, Weight int
	// Idle is how long a peer may think, Thinking how long a person who was asked for something, Parting how long a
	// peer may take to acknowledge a failure. Many do not: they go away with it, and the administrator wants to see
	// their attempt.
	Idle, Thinking, Parting time.Duration
}

// Table holds the conversations under way.
type Table[T any] struct {
	// leave is told of each conversation that is given up, outside of the lock.
	leave  func(*Open[T])
	limits Limits

	mu     sync.Mutex
	open   map[State]*Open[T]
	order  *list.List // by the time of the last round, the oldest first
	parted *list.List // those that have been told that they failed, the oldest first
	owners map[string]*owner
	weight int
	heavy  map[*owner]int
	stop   chan struct{}
	done   sync.WaitGroup
}

// NewTable makes a book and begins to look for abandoned conversations.
func NewTable[T any](limits Limits, leave func(*Open[T])) *Table[T] {
	t := &Table[T]{leave: leave, limits: limits, open: map[State]*Open[T]{}, order: list.New(),
		parted: list.New(), owners: map[string]*owner{}, heavy: map[*owner]int{}, stop: make(chan struct{})}
	t.done.Go(t.watch)
	return t
}

// Add begins to keep a conversation of an owner. If there are too many, the one that has been silent longest is given
// up.
func (t *Table[T]) Add(c *Conversation, keep T, by string) *Open[T] {
	o := &Open[T]{Conversation: c, Keep: keep, at: time.Now(), weight: ownWeight}
	rand.Read(o.State[:])
	t.mu.Lock()
	if o.owner = t.owners[by]; o.owner == nil {
		o.owner = &owner{by, list.New()}
		t.owners[by] = o.owner
	}
	o.place, o.among = t.order.PushBack(o), o.owner.order.PushBack(o)
	t.open[o.State] = o
	t.weight += o.weight
	t.heavy[o.owner] += o.weight
	gone := t.trim(o.owner)
	t.mu.Unlock()
	t.giveUp(gone)
	return o
}

// Weigh takes note of what a conversation holds after a round.
func (t *Table[T]) Weigh(o *Open[T]) {
	now, parting, thinking := o.Weight(), o.Parting(), o.Thinking()
	t.mu.Lock()
	var gone []*Open[T]
	if t.open[o.State] == o {
		t.weight += now - o.weight
		t.heavy[o.owner] += now - o.weight
		o.weight, o.thinking = now, thinking
		if o.parted == nil && parting {
			o.told = time.Now()
			o.parted = t.parted.PushBack(o)
		}
		gone = t.trim(o.owner)
	}
	t.mu.Unlock()
	t.giveUp(gone)
}

// trim takes out what is beyond the limits: first of the owner that has just grown, then of all, the oldest first. The
// last one of an owner stays.
func (t *Table[T]) trim(of *owner) (gone []*Open[T]) {
	out := func(e *list.Element) {
		o := e.Value.(*Open[T])
		t.remove(o)
		gone = append(gone, o)
	}
	for of.order.Len() > 1 && (of.order.Len() > t.limits.Open/2 || t.heavy[of] > t.limits.Weight/2) {
		out(of.order.Front())
	}
	for t.order.Len() > 1 && (t.order.Len() > t.limits.Open || t.weight > t.limits.Weight) {
		out(t.order.Front())
	}
	return gone
}

// Find returns the conversation of a State and marks it as alive; nil if there is none.
func (t *Table[T]) Find(state []byte) *Open[T] {
	if len(state) != len(State{}) {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	o := t.open[State(state)]
	if o != nil {
		o.at, o.thinking = time.Now(), false
		t.order.MoveToBack(o.place)
		o.owner.order.MoveToBack(o.among)
	}
	return o
}

// Remove forgets a conversation that is over.
func (t *Table[T]) Remove(o *Open[T]) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.remove(o)
}

func (t *Table[T]) remove(o *Open[T]) {
	if t.open[o.State] != o {
		return
	}
	delete(t.open, o.State)
	t.order.Remove(o.place)
	o.owner.order.Remove(o.among)
	if o.parted != nil {
		t.parted.Remove(o.parted)
	}
	t.weight -= o.weight
	t.heavy[o.owner] -= o.weight
	if o.owner.order.Len() == 0 {
		delete(t.owners, o.owner.name)
		delete(t.heavy, o.owner)
	}
}

// Len counts the conversations under way.
func (t *Table[T]) Len() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.open)
}

func (t *Table[T]) watch() {
	tick := time.NewTicker(min(time.Second, t.limits.Idle/2))
	defer tick.Stop()
	for {
		select {
		case <-t.stop:
			return
		case now := <-tick.C:
			t.expire(now)
		}
	}
}

// expire gives up what has been silent for too long at a moment.
func (t *Table[T]) expire(now time.Time) {
	t.mu.Lock()
	gone := t.due(now)
	for _, o := range gone {
		t.remove(o)
	}
	t.mu.Unlock()
	t.giveUp(gone)
}

// due are the conversations that are to be given up.
func (t *Table[T]) due(now time.Time) (list []*Open[T]) {
	for e := t.order.Front(); e != nil; e = e.Next() {
		o := e.Value.(*Open[T])
		if !o.at.Before(now.Add(-t.limits.Idle)) {
			break
		}
		if !o.thinking || o.at.Before(now.Add(-max(t.limits.Idle, t.limits.Thinking))) {
			list = append(list, o)
		}
	}
	for e := t.parted.Front(); e != nil; e = e.Next() {
		o := e.Value.(*Open[T])
		if !o.told.Before(now.Add(-t.limits.Parting)) {
			break
		}
		list = append(list, o)
	}
	return list
}

func (t *Table[T]) giveUp(gone []*Open[T]) {
	for _, o := range gone {
		if o.Close() && t.leave != nil {
			t.leave(o)
		}
	}
}

// Close gives everything up.
func (t *Table[T]) Close() {
	close(t.stop)
	t.done.Wait()
	t.expire(time.Now().Add(t.limits.Idle + t.limits.Thinking + time.Hour))
}
