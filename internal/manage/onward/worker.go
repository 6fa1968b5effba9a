package onward

import (
	"context"
	"time"

	"tollgate.example/key/internal/base/ident"
)

// worker sends records on to one place.
type worker struct {
	wanted
	keeper *Keeper
	stop   context.CancelFunc
	ended  chan struct{}
	to     sink
	lines  []*line
}

// line is how far one kind of record has been sent.
type line struct {
	key
	// at is the last record that was sent or passed over, sure the last of which the position is kept.
	at, sure ident.ID
	state    state
}

func newWorker(k *Keeper, w wanted, stop context.CancelFunc) *worker {
	out := &worker{wanted: w, keeper: k, stop: stop, ended: make(chan struct{})}
	for _, kind := range w.kinds {
		out.lines = append(out.lines, &line{key: key{w.name, kind}})
	}
	return out
}

func (w *worker) run(ctx context.Context) {
	defer close(w.ended)
	for _, l := range w.lines {
		id, moment := w.keeper.position(ctx, l.key)
		l.at, l.sure = id, id
		l.state.set(func(s *State) { s.Kind, s.At = l.kind, moment })
		w.keeper.save(l.key, id, moment) // what comes while the other side is down is not lost
	}
	pause, saved := firstPause, time.Now()
	defer func() {
		w.save()
		if w.to != nil {
			w.to.close()
		}
	}()
	for {
		more, err := w.round(ctx)
		wait := lookEvery
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			wait, pause = pause, min(2*pause, lastPause)
		default:
			if pause = firstPause; more {
				wait = 0
			}
			if time.Since(saved) > saveEvery {
				w.save()
				saved = time.Now()
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// round sends what is new of each kind, and reports whether there is more.
func (w *worker) round(ctx context.Context) (more bool, err error) {
	if err = w.reach(); err == nil {
		for _, l := range w.lines {
			rest := false
			if rest, err = w.step(ctx, l); err != nil {
				break
			}
			more = more || rest
		}
	}
	for _, l := range w.lines {
		if err == nil {
			l.state.set(func(s *State) { s.Fault, s.Since = "", time.Time{} })
			continue
		}
		if w.to != nil && !w.to.certain() { // what was written before the connection broke may be lost
			l.at = l.sure
		}
		l.state.fail(err)
	}
	return more, err
}

// reach opens what records go to, and notices if it is gone.
func (w *worker) reach() (err error) {
	if w.to == nil {
		if w.to, err = w.open(); err != nil {
			w.to = nil
			return err
		}
	}
	return w.to.alive()
}

// save keeps the positions, if what was sent has arrived as far as anybody can know.
func (w *worker) save() {
	if w.to == nil || w.to.alive() != nil {
		return
	}
	for _, l := range w.lines {
		if l.at != l.sure {
			w.keeper.save(l.key, l.at, l.state.get().At)
			l.sure = l.at
		}
	}
}

// step sends what is new of one kind, and reports whether there is more.
func (w *worker) step(ctx context.Context, l *line) (more bool, err error) {
	list, err := w.keeper.read(ctx, l.kind, l.at)
	if err != nil || len(list) == 0 {
		l.state.set(func(s *State) { s.Behind = false })
		return false, err
	}
	last := list[len(list)-1]
	chosen := list[:0]
	for i := range list {
		if w.filter(&list[i]) {
			chosen = append(chosen, list[i])
		}
	}
	n, all := int64(len(chosen)), int64(len(list))
	if n > 0 {
		if err := w.to.send(ctx, chosen); err != nil {
			return false, err
		}
	}
	l.at = last.id
	l.state.set(func(s *State) {
		s.At, s.Behind = last.at, all == batch
		s.Sent += n
		s.Passed += all - n
		if f, ok := w.to.(*forwarding); ok {
			s.Given = f.given
		}
	})
	return all == batch, nil
}
