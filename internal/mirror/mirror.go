// Package mirror keeps what this node records on another node too. When a machine is lost, what it acknowledged is not:
// whoever waits for a record that is made durable is told once a second node has it on its disk. Where no other node
// takes it, the own disk has to do, and what was missed is brought there later.
package mirror

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store/record"
)

const (
	// sendTime is how long another node may take for a batch that somebody waits for, and catchUpTime for one that
	// nobody does.
	sendTime    = time.Second
	catchUpTime = 10 * time.Second
	// maxAhead is how far in the future what another node has of this one may be.
	maxAhead = 48 * time.Hour
	// beatEvery is how often a node is told that it has everything, where nothing is recorded.
	beatEvery = time.Second
	// retryEvery is how long it is waited before nodes that took nothing are asked again.
	retryEvery = time.Second
	// A node that takes copies for less than steadyAfter each time is asked again after waits that double, up to
	// maxRetry: each time somebody waits for sendTime.
	steadyAfter = 30 * time.Second
	maxRetry    = time.Minute
	// maxQueued bounds what waits to be sent, maxSent what is sent at once, in octets.
	maxQueued = 32 << 20
	maxSent   = 4 << 20
	// perStep is how many records are read at once for a node that is behind, and maxPause how long others go first
	// after that, half as long as it took: it has to come nearer while more is recorded.
	perStep  = 4000
	maxPause = 100 * time.Millisecond
)

// Way is the way to the other nodes.
type Way interface {
	// Others are the numbers of the other nodes that keep records.
	Others() []int
	// Send hands blocks of a kind, as record.AppendBlocks writes them, to a node, which answers with the highest
	// identifier that it has on its disk. Whole tells it that there is nothing beyond that. Without blocks it only
	// answers.
	Send(ctx context.Context, node int, kind string, whole bool, blocks []byte) (ident.ID, error)
}

// Source is a kind of record of this node.
type Source struct {
	kind   string
	after  func(ctx context.Context, after ident.ID, limit int) ([]record.Block, bool, error)
	above  func(ident.ID)
	copyTo func(func([]record.Block, func()))
}

// Of is what a keeper records, under the name of the kind. Identifiers are made by ids.
func Of[T any](kind string, k *record.Keeper[T], ids *ident.Source) (Source, error) {
	copying, err := k.Copying()
	if err != nil {
		return Source{}, fmt.Errorf("making copies of %s: %w", kind, err)
	}
	return Source{kind, copying.After, ids.Above, k.CopyTo}, nil
}

// State is how the copy of a kind does.
type State struct {
	Kind string
	// Node is the number of the node that has it, or gets it; -1 if none takes it. Live tells that it has everything
	// and that whoever waits is told when it has more; Since is since when that, or its contrary, is so.
	Node  int
	Live  bool
	Since time.Time
	// Wrong is why a node did not take it last, "" if it did.
	Wrong string
}

// Mirror sends what this node records to others.
type Mirror struct {
	senders []*sender
	cancel  context.CancelFunc
	done    sync.WaitGroup
}

// Open begins to send. Close has to be called. What is run by catch may not end the service by a fault.
func Open(self int, way Way, log *slog.Logger, catch func(run func()), sources ...Source) *Mirror {
	ctx, cancel := context.WithCancel(context.Background())
	m := &Mirror{cancel: cancel}
	for _, src := range sources {
		s := &sender{Source: src, self: self, way: way, log: log, wake: make(chan struct{}, 1),
			state: State{Kind: src.kind, Node: -1, Since: time.Now()}}
		src.copyTo(s.take)
		m.senders = append(m.senders, s)
		m.done.Go(func() {
			for ctx.Err() == nil {
				catch(func() { s.run(ctx) })
				s.off(-1, errFault) // whatever happened, nobody waits on
				s.pause(ctx, retryEvery)
			}
		})
	}
	return m
}

// Close ends it: whoever waits is told.
func (m *Mirror) Close() {
	m.cancel()
	m.done.Wait()
}

// State is how the copies do, of each kind.
func (m *Mirror) State() (out []State) {
	for _, s := range m.senders {
		s.mu.Lock()
		out = append(out, s.state)
		s.mu.Unlock()
	}
	return out
}

// sender sends one kind of record.
type sender struct {
	Source
	self int
	way  Way
	log  *slog.Logger
	wake chan struct{}

	mu sync.Mutex
	// taking tells that batches are queued; without it nobody takes them. holding tells that who waits for a batch is
	// told when it has been sent: before that, the node is behind.
	taking, holding bool
	// behind tells that more came than may wait: this stream is over.
	behind bool
	queue  []parcel
	size   int
	// flight are those that are being sent.
	flight []parcel
	state  State
}

// errFault is what a copy comes to after a fault of ours, until it is begun anew.
var errFault = errors.New("a fault in the program ended it; it begins anew")

// parcel is a batch that was committed here.
type parcel struct {
	blocks []record.Block
	then   func()
}

func told() {}

// take takes a batch that was committed here; see record.Keeper.CopyTo.
func (s *sender) take(blocks []record.Block, then func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.behind = s.behind || s.taking && s.size > maxQueued
	if !s.taking || s.behind {
		then()
		return
	}
	if !s.holding {
		then()
		then = told
	}
	for i := range blocks {
		s.size += len(blocks[i].Head) + len(blocks[i].Body)
	}
	s.queue = append(s.queue, parcel{blocks, then})
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// begin has batches queued from now on.
func (s *sender) begin() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taking, s.behind = true, false
}

// live has whoever waits wait for the copy from now on.
func (s *sender) live(node int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.holding = true
	s.state = State{Kind: s.kind, Node: node, Live: true, Since: time.Now()}
}

// off tells everybody who waits: there will be no copy of these now.
func (s *sender) off(node int, err error) {
	s.mu.Lock()
	waiting := append(s.flight, s.queue...)
	s.taking, s.holding, s.flight, s.queue, s.size = false, false, nil, nil, 0
	since, wrong := s.state.Since, plain(err)
	changed := s.state.Wrong != wrong || s.state.Live
	if s.state.Live {
		since = time.Now()
	}
	s.state = State{Kind: s.kind, Node: node, Since: since, Wrong: wrong}
	s.mu.Unlock()
	for _, p := range waiting {
		p.then()
	}
	if changed && wrong != "" {
		s.log.Warn("what is recorded here is not copied to another node now", "kind", s.kind, "node", node, "error",
			wrong)
	}
}

func plain(err error) string {
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return ""
	case errors.Is(err, context.DeadlineExceeded):
		return "it took too long"
	}
	return err.Error()
}

// order are the other nodes, the one with the next number first.
func (s *sender) order() []int {
	list := s.way.Others()
	slices.SortFunc(list, func(a, b int) int {
		return cmp.Or(cmp.Compare(before(a, s.self), before(b, s.self)), cmp.Compare(a, b))
	})
	return list
}

func before(node, self int) int {
	if node < self {
		return 1
	}
	return 0
}

func (s *sender) run(ctx context.Context) {
	wait := retryEvery
	for {
		nodes := s.order()
		for _, node := range nodes {
			begun := time.Now()
			live, err := s.stream(ctx, node)
			s.off(node, err)
			switch {
			case time.Since(begun) > steadyAfter:
				wait = retryEvery
			case live:
				wait = min(2*wait, maxRetry)
			}
		}
		if len(nodes) == 0 {
			s.off(-1, nil)
		}
		if s.pause(ctx, wait); ctx.Err() != nil {
			return
		}
	}
}

// pause waits, unless the context ends.
func (s *sender) pause(ctx context.Context, wait time.Duration) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}

// stream brings a node all that it has not, and from then on what comes, until that fails; live tells that it came so
// far that somebody may have waited.
func (s *sender) stream(ctx context.Context, node int) (live bool, err error) {
	asked, cancel := context.WithTimeout(ctx, catchUpTime)
	last, err := s.way.Send(asked, node, s.kind, false, nil)
	cancel()
	if err != nil {
		return false, err
	}
	if time.Until(last.Time()) > maxAhead { // the identifiers of this node must not follow it there
		return false, fmt.Errorf("it says that it has %s up to %s, which is in the future", s.kind, last.Time())
	}
	s.above(last) // it may know more of this node than this node does itself, from before its disk was replaced
	if last, err = s.catchUp(ctx, node, last); err != nil {
		return false, err
	}
	s.begin()
	if last, err = s.catchUp(ctx, node, last); err != nil { // what came before the queue began
		return false, err
	}
	s.live(node)
	for {
		blocks, err := s.next(ctx)
		if err == nil {
			last, err = s.send(ctx, node, true, blocks, last, sendTime)
		}
		if err != nil {
			return true, err
		}
		s.arrived()
	}
}

// arrived tells those who waited for what was sent.
func (s *sender) arrived() {
	s.mu.Lock()
	list := s.flight
	s.flight = nil
	s.mu.Unlock()
	for _, p := range list {
		p.then()
	}
}

// errBehind ends a stream whose node is slower than what is recorded.
var errBehind = errors.New("more is recorded than it takes")

// next waits for batches and takes them into flight; it returns none where it is time to say that there are none.
func (s *sender) next(ctx context.Context) (blocks []record.Block, err error) {
	beat := time.NewTimer(beatEvery)
	defer beat.Stop()
	for {
		s.mu.Lock()
		if s.behind {
			s.mu.Unlock()
			return nil, errBehind
		}
		n, size := 0, 0
		for n < len(s.queue) && size < maxSent {
			for i := range s.queue[n].blocks {
				size += len(s.queue[n].blocks[i].Head) + len(s.queue[n].blocks[i].Body)
			}
			blocks = append(blocks, s.queue[n].blocks...)
			n++
		}
		s.flight, s.queue = s.queue[:n:n], s.queue[n:]
		s.size -= size
		s.mu.Unlock()
		if n > 0 {
			return blocks, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-s.wake:
		case <-beat.C:
			return nil, nil
		}
	}
}

// catchUp brings a node what it has not of what is recorded.
func (s *sender) catchUp(ctx context.Context, node int, last ident.ID) (ident.ID, error) {
	for {
		begun := time.Now()
		blocks, more, err := s.after(ctx, last, perStep)
		if err != nil {
			return last, err
		}
		for len(blocks) > 0 {
			n, size := 0, 0
			for n < len(blocks) && size < maxSent {
				size += len(blocks[n].Head) + len(blocks[n].Body)
				n++
			}
			if last, err = s.send(ctx, node, false, blocks[:n], last, catchUpTime); err != nil {
				return last, err
			}
			blocks = blocks[n:]
		}
		if !more {
			return last, nil
		}
		if s.pause(ctx, min(time.Since(begun)/2, maxPause)); ctx.Err() != nil {
			return last, ctx.Err()
		}
	}
}

// send sends blocks and tells what the node has then.
func (s *sender) send(ctx context.Context, node int, whole bool, blocks []record.Block, last ident.ID,
	within time.Duration) (ident.ID, error) {
	want, body := last, []byte(nil)
	if len(blocks) > 0 {
		want, body = max(last, blocks[len(blocks)-1].Last), record.AppendBlocks(nil, blocks)
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	got, err := s.way.Send(ctx, node, s.kind, whole, body)
	if err != nil {
		return last, err
	}
	if got != want {
		return last, fmt.Errorf("it has %s up to %s, where %s was sent", s.kind, got, want)
	}
	return got, nil
}
