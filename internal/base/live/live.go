// Package live hands events to whoever is listening. A listener that is too slow loses events and is told so; it
// never holds anybody up.
package live

import "sync"

const (
	queue        = 512
	maxListeners = 200
)

// Hub spreads events of one type. The zero value is ready to use.
type Hub[T any] struct {
	mu        sync.Mutex
	listeners map[*Listener[T]]struct{}
}

// Listener receives events until it is closed.
type Listener[T any] struct {
	// Events delivers; it is never closed.
	Events chan T
	hub    *Hub[T]
	mu     sync.Mutex
	lost   int
}

// Listen begins to listen, or returns nil if there are too many listeners.
func (h *Hub[T]) Listen() *Listener[T] {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.listeners) >= maxListeners {
		return nil
	}
	if h.listeners == nil {
		h.listeners = map[*Listener[T]]struct{}{}
	}
	l := &Listener[T]{Events: make(chan T, queue), hub: h}
	h.listeners[l] = struct{}{}
	return l
}

// Close ends listening.
func (l *Listener[T]) Close() {
	l.hub.mu.Lock()
	defer l.hub.mu.Unlock()
	delete(l.hub.listeners, l)
}

// Lost returns how many events were lost since it was asked last.
func (l *Listener[T]) Lost() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := l.lost
	l.lost = 0
	return n
}

// Send hands an event to every listener.
func (h *Hub[T]) Send(event T) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		select {
		case l.Events <- event:
		default:
			l.mu.Lock()
			l.lost++
			l.mu.Unlock()
		}
	}
}

// Active reports whether anybody listens, so that nothing need be prepared for nobody.
func (h *Hub[T]) Active() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.listeners) > 0
}
