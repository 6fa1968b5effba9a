package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
)

// Log is the log that all nodes share.
type Log interface {
	// Add adds an entry behind the one with that number; it reports false if another entry is there already. After an
	// error nothing is known: the entry may be there or may come.
	Add(ctx context.Context, after int64, id string, data []byte) (bool, error)
	// NewID makes what tells an entry from all others.
	NewID() string
}

const (
	// shareTime is how long a change may take until it is in the log, and after that until it is in the file, there
	// with a second more for so many octets, since the disk has its pace. Nothing takes longer than takeTime.
	shareTime = 6 * time.Second
	pace      = 256 << 10
	takeTime  = time.Minute
	// batchSize is how many changes that wait become one entry.
	batchSize = 64
	// maxEntry bounds an entry, in octets before compression.
	maxEntry = 64 << 20
)

// sharing makes entries of changes. One goroutine does, so that changes of one node do not stand in each other's way,
// and those that wait together become one entry.
type sharing struct {
	store *Store
	log   Log
	node  int
	queue chan *request
	// ended is closed when no change is taken any more.
	ended chan struct{}
	// told is up to which entry those who keep records in memory know of them.
	told atomic.Int64

	mu      sync.Mutex
	applied int64
	moved   chan struct{} // closed when applied is another one
	// pending are the entries of ours that are on their way, by their identifiers.
	pending map[string]*own
	// others are the entries of other nodes that last changed a record, by its kind and identifier, as long as they are
	// not told.
	others map[Touched]int64
}

// own is an entry of ours on its way: the changes that it is made of, and whether it came into the database.
type own struct {
	requests []*request
	there    chan struct{}
}

// request is one change on its way.
type request struct {
	ctx context.Context
	do  func(tx *sqlx.Tx) error
	// also are rows that are shared as they are, though they are not touched.
	also []rowID
	told int64
	done chan error
}

// Share has all changes of shared tables go through a log from now on. It returns what is to be called at the end.
func (s *Store) Share(ctx context.Context, log Log) (stop func(), err error) {
	state, err := s.SharedState(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading where the database stands in the log: %w", err)
	}
	h := &sharing{
		store:   s,
		log:     log,
		node:    state.Node,
		queue:   make(chan *request),
		ended:   make(chan struct{}),
		applied: state.Applied,
		moved:   make(chan struct{}),
		pending: map[string]*own{},
		others:  map[Touched]int64{},
	}
	h.told.Store(state.Applied)
	if !s.shared.CompareAndSwap(nil, h) {
		return nil, errors.New("the database is shared already")
	}
	running, cancel := context.WithCancel(context.Background())
	go func() {
		defer close(h.ended)
		h.run(running)
	}()
	return func() {
		s.shared.Store(nil)
		cancel()
		<-h.ended
	}, nil
}

// share runs a change through the log.
func (h *sharing) share(ctx context.Context, do func(tx *sqlx.Tx) error, also ...rowID) error {
	r := &request{ctx: ctx, do: do, also: also, told: h.told.Load(), done: make(chan error, 1)}
	select {
	case h.queue <- r:
	case <-ctx.Done():
		return ctx.Err()
	case <-h.ended:
		return ErrCutOff
	case <-time.After(takeTime):
		return fmt.Errorf("waiting for changes before this one: %w", ErrCutOff)
	}
	return <-r.done
}

// ErrCutOff is returned where a change needs a majority of the nodes, which cannot be reached.
var ErrCutOff = errors.New("no majority of the nodes can be reached")

func (h *sharing) run(ctx context.Context) {
	for {
		select {
		case first := <-h.queue:
			batch := []*request{first}
			for more := true; more && len(batch) < batchSize; {
				select {
				case r := <-h.queue:
					batch = append(batch, r)
				default:
					more = false
				}
			}
			h.settle(ctx, batch)
		case <-ctx.Done():
			return
		}
	}
}

// settle brings changes into the log and answers each.
func (h *sharing) settle(ctx context.Context, batch []*request) {
	ctx, cancel := context.WithTimeout(ctx, takeTime)
	defer cancel()
	id := h.log.NewID()
	for len(batch) > 0 {
		data, base, rest := h.rehearse(ctx, batch)
		if batch = rest; len(batch) == 0 {
			return
		}
		mine := &own{batch, make(chan struct{})}
		h.mu.Lock()
		h.pending[id] = mine
		h.mu.Unlock()
		adding, end := context.WithTimeout(ctx, shareTime)
		added, err := h.log.Add(adding, base, id, data)
		if err == nil && !added { // another node was first: try again behind its entry
			err = h.until(adding, base+1)
		}
		end()
		switch {
		case err == nil && added:
			err = h.wait(ctx, mine, base+1, shareTime+time.Duration(len(data)/pace)*time.Second)
		case err == nil && h.leave(id):
			continue
		}
		for !h.leave(id) { // it is in the database, or just being brought there, which may fail
			select {
			case <-mine.there:
				err = nil
			case <-time.After(10 * time.Millisecond):
				continue
			}
			break
		}
		for _, r := range batch {
			r.done <- err
		}
		return
	}
}

// leave gives an entry up: if it comes after all, it is told like one of another node. It reports false if it is in the
// database already, or just being brought there.
func (h *sharing) leave(id string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	_, waiting := h.pending[id]
	delete(h.pending, id)
	return waiting
}

// wait waits until an entry of ours is in the database.
func (h *sharing) wait(ctx context.Context, mine *own, number int64, limit time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	select {
	case <-mine.there:
		return nil
	case <-ctx.Done():
		return fmt.Errorf(
			"the change is entry %d of the log, but could not be brought into the database of this node "+
				"in time",
			number,
		)
	}
}

// rehearse tries changes and takes them back; it answers those that fail, and returns the entry that the others make
// behind the entry base.
func (h *sharing) rehearse(ctx context.Context, batch []*request) (data []byte, base int64, rest []*request) {
	fail := func(err error) ([]byte, int64, []*request) {
		for _, r := range rest {
			r.done <- err
		}
		return nil, 0, nil
	}
	rest = batch
	conn, err := h.store.single.Connx(ctx)
	if err != nil {
		return fail(fmt.Errorf("waiting for the database: %w", err))
	}
	defer conn.Close()
	var rows touchedRows
	if err := watch(ctx, conn, h.store.tables, &rows); err != nil {
		return fail(err)
	}
	defer watch(ctx, conn, nil, nil)
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return fail(fmt.Errorf("waiting for the database: %w", err))
	}
	defer tx.Rollback()
	if base, err = appliedIn(ctx, tx); err != nil {
		return fail(err)
	}
	all, entry := touchedRows{}, Shared{Node: h.node, At: time.Now().UnixMilli()}
	rest = nil
	for _, r := range batch {
		rows = touchedRows{}
		err := r.try(ctx, tx)
		switch {
		case err != nil:
		case rows.own() != "":
			err = errors.Join(fmt.Errorf("the change of shared tables touches %s, which is of this node alone",
				rows.own()), rollback(ctx, tx))
		case h.conflict(r, rows):
			err = errors.Join(ErrChanged, rollback(ctx, tx))
		}
		if err != nil {
			r.done <- err
			continue
		}
		for id := range rows {
			all[id] = true
		}
		for _, id := range r.also {
			all[id] = true
		}
		if n, ok := r.ctx.Value(noteKey{}).(Note); ok {
			if line := n.Draft(); line != nil {
				entry.Lines = append(entry.Lines, line)
			}
		}
		rest = append(rest, r)
	}
	if len(rest) == 0 {
		return nil, 0, nil
	}
	if entry.Tables, err = images(ctx, tx, h.store.tables, all); err != nil {
		return fail(fmt.Errorf("reading what a change made: %w", err))
	}
	if data, err = json.Marshal(&entry); err == nil && len(data) > maxEntry {
		err = fmt.Errorf(
			"the change has %d MB, and nodes share at most %d MB at once: make it in parts",
			len(data)>>20,
			maxEntry>>20,
		)
	}
	if err != nil {
		return fail(err)
	}
	return data, base, rest
}

// try runs a change; if it fails, nothing of it is left. A fault in it is that of whoever asked for it, and not of all
// whose changes wait.
func (r *request) try(ctx context.Context, tx *sqlx.Tx) (err error) {
	if _, err := tx.ExecContext(ctx, "SAVEPOINT change"); err != nil {
		return err
	}
	defer func() {
		if fault := recover(); fault != nil {
			err = fmt.Errorf("a fault of the program: %v", fault)
		}
		if err != nil {
			err = errors.Join(err, rollback(ctx, tx))
		}
	}()
	return r.do(tx)
}

// rollback takes back what was done since the savepoint.
func rollback(ctx context.Context, tx *sqlx.Tx) error {
	_, err := tx.ExecContext(ctx, "ROLLBACK TO change")
	return err
}

// conflict tells whether another node changed what a change touches, before whoever asked for it was told.
func (h *sharing) conflict(r *request, rows touchedRows) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for id := range rows {
		key, err := decodeValues(json.RawMessage(id.key))
		if err != nil {
			return true
		}
		if c := h.store.tables[id.table].told(key); c.Kind != "" && h.others[c] > r.told {
			return true
		}
	}
	return false
}

// until waits until the file has come to an entry.
func (h *sharing) until(ctx context.Context, number int64) error {
	for {
		h.mu.Lock()
		there, moved := h.applied >= number, h.moved
		h.mu.Unlock()
		if there {
			return nil
		}
		select {
		case <-moved:
		case <-ctx.Done():
			return fmt.Errorf("waiting for entry %d of the log: %w", number, ErrCutOff)
		}
	}
}

// Applied is up to which entry of the log the file has come.
func (s *Store) Applied() int64 {
	h := s.shared.Load()
	if h == nil {
		return 0
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.applied
}

// AwaitTold waits until those who keep records in memory know of what is in the file, for a second at most: whoever was
// refused with ErrChanged decides again after it.
func (s *Store) AwaitTold(ctx context.Context) {
	for range 500 {
		h := s.shared.Load()
		if h == nil || h.told.Load() >= s.Applied() || ctx.Err() != nil {
			return
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// Told says that those who keep records in memory know of all entries up to that one.
func (s *Store) Told(number int64) {
	h := s.shared.Load()
	if h == nil {
		return
	}
	h.told.Store(number)
	h.mu.Lock()
	defer h.mu.Unlock()
	for c, n := range h.others {
		if n <= number {
			delete(h.others, c)
		}
	}
}
