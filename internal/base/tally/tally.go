// Package tally counts attempts by minute for the last two hours, in memory.
package tally

import (
	"slices"
	"sync"
	"time"
)

const (
	minutes = 120
	samples = 1024
)

// Count is one minute.
type Count struct{ Admitted, Refused int }

// Tally counts. It is safe for concurrent use.
type Tally struct {
	mu     sync.Mutex
	ring   [minutes]Count
	stamp  [minutes]int64
	micros [samples]int64
	n      int
}

// Add counts attempts of one minute since 1970.
func (t *Tally) Add(minute int64, admitted, refused int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.add(minute, admitted, refused)
}

func (t *Tally) add(minute int64, admitted, refused int) {
	i := minute % minutes
	if t.stamp[i] > minute {
		return // from before the time kept here
	}
	if t.stamp[i] != minute {
		t.stamp[i], t.ring[i] = minute, Count{}
	}
	t.ring[i].Admitted += admitted
	t.ring[i].Refused += refused
}

// Attempt counts one attempt with the time it took.
func (t *Tally) Attempt(at time.Time, admitted bool, micros int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if admitted {
		t.add(at.Unix()/60, 1, 0)
	} else {
		t.add(at.Unix()/60, 0, 1)
	}
	t.micros[t.n%samples] = micros
	t.n++
}

// Minute returns the count of one minute.
func (t *Tally) Minute(minute int64) Count {
	t.mu.Lock()
	defer t.mu.Unlock()
	if i := minute % minutes; t.stamp[i] == minute {
		return t.ring[i]
	}
	return Count{}
}

// Median is the middle time, in microseconds, of the newest attempts; 0 if there were none.
func (t *Tally) Median() int64 {
	t.mu.Lock()
	list := slices.Clone(t.micros[:min(t.n, samples)])
	t.mu.Unlock()
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	return list[len(list)/2]
}
