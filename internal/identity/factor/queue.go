package factor

import (
	"context"
	"sync"
	"time"

	"tollgate.example/key/internal/store"
)

const (
	// maxTogether bounds how many codes are noted in one transaction.
	maxTogether = 512
	// saveTime is how long that may take.
	saveTime = 30 * time.Second
)

// queue are the codes that wait to be noted as used: those that come while the disk is busy are noted together.
type queue struct {
	mu      sync.Mutex
	waiting []*saving
	busy    bool
}

// saving is one that waits. row says what is to be written when it is its turn.
type saving struct {
	row  func() (store.FactorToken, error)
	done chan error
}

// together notes a code, with others that wait, and returns when it is on the disk.
func (k *Keeper) together(row func() (store.FactorToken, error)) error {
	s := &saving{row, make(chan error, 1)}
	k.queue.mu.Lock()
	k.queue.waiting = append(k.queue.waiting, s)
	first := !k.queue.busy
	k.queue.busy = true
	k.queue.mu.Unlock()
	if first {
		k.noteNext()
	}
	return <-s.done
}

// noteNext notes those that wait, and has another goroutine go on if more came meanwhile: nobody waits for those who
// come later.
func (k *Keeper) noteNext() {
	k.queue.mu.Lock()
	list := k.queue.waiting[:min(len(k.queue.waiting), maxTogether)]
	k.queue.waiting = k.queue.waiting[len(list):]
	k.queue.mu.Unlock()
	k.note(list)
	k.queue.mu.Lock()
	defer k.queue.mu.Unlock()
	if len(k.queue.waiting) > 0 {
		go k.noteNext()
		return
	}
	k.queue.waiting, k.queue.busy = nil, false
}

func (k *Keeper) note(list []*saving) {
	ctx, cancel := context.WithTimeout(context.Background(), saveTime)
	defer cancel()
	k.saving.Lock()
	defer k.saving.Unlock()
	rows, those := make([]store.FactorToken, 0, len(list)), make([]*saving, 0, len(list))
	for _, s := range list {
		row, err := s.row()
		if err != nil {
			s.done <- err
			continue
		}
		rows, those = append(rows, row), append(those, s)
	}
	if len(rows) == 0 {
		return
	}
	err := k.store.SaveFactorTokens(ctx, rows)
	for i, s := range those {
		one := err
		if err != nil && len(rows) > 1 { // it is the fault of one, or of the disk
			one = k.store.SaveFactorToken(ctx, rows[i])
		}
		s.done <- one
	}
}
