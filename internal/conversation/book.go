package conversation

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
}

// owner is whose devices have conversations: a client.
type owner struct {
	name  string
	order *list.List
}

// Limits bound a book.
type Limits struct {
	// Open is how many conversations may be under way, Weight how many octets they may hold together. One owner may have half of
	// each, so that a flood behind one client leaves room for the others.
	Open, Weight int
	// Idle is how long a peer may think.
	Idle time.Duration
}

// Book holds the conversations under way.
type Book[T any] struct {
	// leave is told of each conversation that is given up, outside of the lock.
	leave  func(*Open[T])
	limits Limits

	mu     sync.Mutex
	open   map[State]*Open[T]
	order  *list.List // by the time of the last round, the oldest first
	owners map[string]*owner
	weight int
	heavy  map[*owner]int
	stop   chan struct{}
	done   sync.WaitGroup
}

// NewBook makes a book and begins to look for abandoned conversations.
func NewBook[T any](limits Limits, leave func(*Open[T])) *Book[T] {
	b := &Book[T]{leave: leave, limits: limits, open: map[State]*Open[T]{}, order: list.New(), owners: map[string]*owner{}, heavy: map[*owner]int{}, stop: make(chan struct{})}
	b.done.Go(b.watch)
	return b
}

// Add begins to keep a conversation of an owner. If there are too many, the one that has been silent longest is given up.
func (b *Book[T]) Add(c *Conversation, keep T, by string) *Open[T] {
	o := &Open[T]{Conversation: c, Keep: keep, at: time.Now(), weight: ownWeight}
	rand.Read(o.State[:])
	b.mu.Lock()
	if o.owner = b.owners[by]; o.owner == nil {
		o.owner = &owner{by, list.New()}
		b.owners[by] = o.owner
	}
	o.place, o.among = b.order.PushBack(o), o.owner.order.PushBack(o)
	b.open[o.State] = o
	b.weight += o.weight
	b.heavy[o.owner] += o.weight
	gone := b.trim(o.owner)
	b.mu.Unlock()
	b.giveUp(gone)
	return o
}

// Weigh takes note of what a conversation holds after a round.
func (b *Book[T]) Weigh(o *Open[T]) {
	now := o.Weight()
	b.mu.Lock()
	var gone []*Open[T]
	if b.open[o.State] == o {
		b.weight += now - o.weight
		b.heavy[o.owner] += now - o.weight
		o.weight = now
		gone = b.trim(o.owner)
	}
	b.mu.Unlock()
	b.giveUp(gone)
}

// trim takes out what is beyond the limits: first of the owner that has just grown, then of all, the oldest first. The last one
// of an owner stays.
func (b *Book[T]) trim(of *owner) (gone []*Open[T]) {
	out := func(e *list.Element) {
		o := e.Value.(*Open[T])
		b.remove(o)
		gone = append(gone, o)
	}
	for of.order.Len() > 1 && (of.order.Len() > b.limits.Open/2 || b.heavy[of] > b.limits.Weight/2) {
		out(of.order.Front())
	}
	for b.order.Len() > 1 && (b.order.Len() > b.limits.Open || b.weight > b.limits.Weight) {
		out(b.order.Front())
	}
	return gone
}

// Find returns the conversation of a State and marks it as alive; nil if there is none.
func (b *Book[T]) Find(state []byte) *Open[T] {
	if len(state) != len(State{}) {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	o := b.open[State(state)]
	if o != nil {
		o.at = time.Now()
		b.order.MoveToBack(o.place)
		o.owner.order.MoveToBack(o.among)
	}
	return o
}

// Remove forgets a conversation that is over.
func (b *Book[T]) Remove(o *Open[T]) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.remove(o)
}

func (b *Book[T]) remove(o *Open[T]) {
	if b.open[o.State] != o {
		return
	}
	delete(b.open, o.State)
	b.order.Remove(o.place)
	o.owner.order.Remove(o.among)
	b.weight -= o.weight
	b.heavy[o.owner] -= o.weight
	if o.owner.order.Len() == 0 {
		delete(b.owners, o.owner.name)
		delete(b.heavy, o.owner)
	}
}

// Len counts the conversations under way.
func (b *Book[T]) Len() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.open)
}

func (b *Book[T]) watch() {
	tick := time.NewTicker(min(time.Second, b.limits.Idle/2))
	defer tick.Stop()
	for {
		select {
		case <-b.stop:
			return
		case now := <-tick.C:
			b.expire(now.Add(-b.limits.Idle))
		}
	}
}

// expire gives up what has been silent since before the moment.
func (b *Book[T]) expire(before time.Time) {
	for {
		b.mu.Lock()
		front := b.order.Front()
		var gone []*Open[T]
		if front != nil && front.Value.(*Open[T]).at.Before(before) {
			gone = append(gone, front.Value.(*Open[T]))
			b.remove(gone[0])
		}
		b.mu.Unlock()
		if gone == nil {
			return
		}
		b.giveUp(gone)
	}
}

func (b *Book[T]) giveUp(gone []*Open[T]) {
	for _, o := range gone {
		if o.Close() && b.leave != nil {
			b.leave(o)
		}
	}
}

// Close gives everything up.
func (b *Book[T]) Close() {
	close(b.stop)
	b.done.Wait()
	b.expire(time.Now().Add(time.Hour))
}
