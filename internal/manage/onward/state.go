package onward

import (
	"sync"
	"time"
)

// state is a State that one goroutine writes and others read.
type state struct {
	mu  sync.Mutex
	now State
}

func (s *state) set(change func(*State)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(&s.now)
}

func (s *state) get() State {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

func (s *state) fail(err error) {
	s.set(func(s *State) {
		if s.Fault == "" {
			s.Since = time.Now()
		}
		s.Fault, s.Behind = err.Error(), true
	})
}
