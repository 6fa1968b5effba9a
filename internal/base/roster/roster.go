// Package roster keeps records in the order of their keys, for pages of them and for searching. Readers wait for nobody
// and keep nobody waiting: they read the list as it was when they began.
package roster

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// Entry is a record under its key, with the text that searching looks at; both in lower case.
type Entry[T any] struct {
	Key, Text string
	Of        *T
}

// List is a list in the order of keys. The zero value is empty and ready.
type List[T any] struct {
	mu sync.Mutex
	at atomic.Pointer[[]Entry[T]]
}

// Put adds entries, and replaces those of the same keys.
func (l *List[T]) Put(entries ...Entry[T]) {
	l.mu.Lock()
	defer l.mu.Unlock()
	before := l.entries()
	if len(entries) == 1 {
		after := make([]Entry[T], 0, len(before)+1)
		at, there := find(before, entries[0].Key)
		after = append(append(after, before[:at]...), entries[0])
		if there {
			at++
		}
		after = append(after, before[at:]...)
		l.at.Store(&after)
		return
	}
	l.set(slices.Concat(before, entries))
}

// Set makes the list these entries and no others.
func (l *List[T]) Set(entries ...Entry[T]) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.set(slices.Clone(entries))
}

// set sorts entries and makes the list of them; the lock is held.
func (l *List[T]) set(after []Entry[T]) {
	slices.SortStableFunc(after, func(a, b Entry[T]) int { return strings.Compare(a.Key, b.Key) })
	kept := after[:0]
	for i, e := range after { // of the same key the last one counts
		if i+1 == len(after) || after[i+1].Key != e.Key {
			kept = append(kept, e)
		}
	}
	l.at.Store(&kept)
}

// Remove takes out the entry of a key.
func (l *List[T]) Remove(key string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	before := l.entries()
	if at, there := find(before, key); there {
		after := slices.Concat(before[:at], before[at+1:])
		l.at.Store(&after)
	}
}

func (l *List[T]) entries() []Entry[T] {
	if at := l.at.Load(); at != nil {
		return *at
	}
	return nil
}

func find[T any](list []Entry[T], key string) (int, bool) {
	return slices.BinarySearchFunc(list, key, func(e Entry[T], key string) int { return strings.Compare(e.Key, key) })
}

// Page returns up to so many records that fit, those behind a key; "" begins at the start. more tells that there are
// others.
func (l *List[T]) Page(after string, limit int, fits func(e *Entry[T]) bool) (page []*T, more bool) {
	list := l.entries()
	if after != "" {
		at, there := find(list, after)
		if there {
			at++
		}
		list = list[at:]
	}
	for i := range list {
		if !fits(&list[i]) {
			continue
		}
		if len(page) == limit {
			return page, true
		}
		page = append(page, list[i].Of)
	}
	return page, false
}

// All returns all records.
func (l *List[T]) All() []*T {
	list := l.entries()
	out := make([]*T, len(list))
	for i := range list {
		out[i] = list[i].Of
	}
	return out
}
