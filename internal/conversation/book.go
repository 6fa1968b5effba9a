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

	at      time.Time
	element *list.Element
}

// Book holds the conversations under way, bounded in number and in time since the last round.
type Book[T any] struct {
	// leave is told of each conversation that is given up, outside of the lock.
	leave func(*Open[T])
	limit int
	idle  time.Duration

	mu    sync.Mutex
	open  map[State]*Open[T]
	order *list.List // by the time of the last round, the oldest first
	stop  chan struct{}
	done  sync.WaitGroup
}

// NewBook makes a book and begins to look for abandoned conversations.
func NewBook[T any](limit int, idle time.Duration, leave func(*Open[T])) *Book[T] {
	b := &Book[T]{leave: leave, limit: limit, idle: idle, open: map[State]*Open[T]{}, order: list.New(), stop: make(chan struct{})}
	b.done.Go(b.watch)
	return b
}

// Add begins to keep a conversation. If there are too many, the one that has been silent longest is given up.
func (b *Book[T]) Add(c *Conversation, keep T) *Open[T] {
	o := &Open[T]{Conversation: c, Keep: keep, at: time.Now()}
	rand.Read(o.State[:])
	b.mu.Lock()
	var oldest *Open[T]
	if len(b.open) >= b.limit {
		oldest = b.order.Front().Value.(*Open[T])
		b.remove(oldest)
	}
	o.element = b.order.PushBack(o)
	b.open[o.State] = o
	b.mu.Unlock()
	if oldest != nil {
		b.giveUp(oldest)
	}
	return o
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
		b.order.MoveToBack(o.element)
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
	if b.open[o.State] == o {
		delete(b.open, o.State)
		b.order.Remove(o.element)
	}
}

// Len counts the conversations under way.
func (b *Book[T]) Len() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.open)
}

func (b *Book[T]) watch() {
	tick := time.NewTicker(min(time.Second, b.idle/2))
	defer tick.Stop()
	for {
		select {
		case <-b.stop:
			return
		case now := <-tick.C:
			b.expire(now.Add(-b.idle))
		}
	}
}

// expire gives up what has been silent since before the moment.
func (b *Book[T]) expire(before time.Time) {
	for {
		b.mu.Lock()
		front := b.order.Front()
		var o *Open[T]
		if front != nil && front.Value.(*Open[T]).at.Before(before) {
			o = front.Value.(*Open[T])
			b.remove(o)
		}
		b.mu.Unlock()
		if o == nil {
			return
		}
		b.giveUp(o)
	}
}

func (b *Book[T]) giveUp(o *Open[T]) {
	over := o.Over() // waits for a round under way, whose answer the peer may still get
	o.Close()
	if !over && b.leave != nil {
		b.leave(o)
	}
}

// Close gives everything up.
func (b *Book[T]) Close() {
	close(b.stop)
	b.done.Wait()
	b.expire(time.Now().Add(time.Hour))
}
