package mirror

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// node is another node, which can fail in several ways.
type node struct {
	number int
	copies *store.Copies
	// dead answers with an error, mute not at all; lost keeps what it is sent and its answer is lost.
	dead, mute, lost atomic.Bool
	// faulty hits a fault on our side.
	faulty atomic.Bool
	sent   atomic.Int64
}

type way struct{ nodes []*node }

func (w *way) Others() (out []int) {
	for _, n := range w.nodes {
		out = append(out, n.number)
	}
	return out
}

func (w *way) Send(ctx context.Context, number int, kind string, whole bool, data []byte) (ident.ID, error) {
	i := slices.IndexFunc(w.nodes, func(n *node) bool { return n.number == number })
	n := w.nodes[i]
	n.sent.Add(1)
	if n.faulty.Load() {
		panic("a fault")
	}
	if n.dead.Load() {
		return 0, errors.New("it is dead")
	}
	if n.mute.Load() {
		<-ctx.Done()
		return 0, ctx.Err()
	}
	var blocks []record.Block
	if len(data) > 0 {
		var err error
		if blocks, err = record.ReadBlocks(data); err != nil {
			return 0, err
		}
	}
	last, err := n.copies.Adopt(ctx, kind, 1, "one", blocks, whole)
	if n.lost.Load() {
		return 0, errors.New("the answer is lost")
	}
	return last, err
}

func other(t *testing.T, number int) *node {
	t.Helper()
	r := record.Retention{}
	copies, err := store.OpenCopies(context.Background(), t.TempDir(), r, r, r, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { copies.Close() })
	return &node{number: number, copies: copies}
}

type bench struct {
	t       *testing.T
	journal *store.Journal
	mirror  *Mirror
	ids     *ident.Source
	way     *way
}

func begin(t *testing.T, dir string, nodes ...*node) *bench {
	t.Helper()
	b := &bench{t: t, ids: ident.NewSource(1), way: &way{nodes}}
	var err error
	if b.journal, err = store.OpenJournal(context.Background(), dir, b.ids, record.Retention{}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.journal.Close() })
	b.note("before there was another node")
	b.mirrored()
	return b
}

func (b *bench) mirrored() {
	source, err := Of(store.KindJournal, b.journal.Keeper, b.ids)
	if err != nil {
		b.t.Fatal(err)
	}
	b.mirror = Open(1, b.way, slog.New(slog.DiscardHandler), func(run func()) {
		defer func() {
			if fault := recover(); fault != nil && fault != "a fault" {
				panic(fault)
			}
		}()
		run()
	}, source)
	b.t.Cleanup(b.mirror.Close)
}

// note records something and returns what it was acknowledged as.
func (b *bench) note(what string) ident.ID {
	e := &store.Entry{At: time.Now(), Kind: "command", Who: "ann", Command: what}
	if err := b.journal.Record(context.Background(), e); err != nil {
		b.t.Error(err)
	}
	return e.ID
}

// becomes waits until the copy does as is wanted.
func (b *bench) becomes(live bool, node int) State {
	b.t.Helper()
	for end := time.Now().Add(20 * time.Second); ; {
		s := b.mirror.State()[0]
		if s.Live == live && s.Node == node {
			return s
		}
		if time.Now().After(end) {
			b.t.Fatalf("it is %+v", s)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// same checks that a node has all that was recorded.
func (b *bench) same(n *node) {
	b.t.Helper()
	list := func(j *store.Journal) []store.Entry {
		page, err := j.Find(context.Background(), store.EntryFilter{Limit: 100_000})
		if err != nil {
			b.t.Fatal(err)
		}
		return page.Items
	}
	if got, want := list(n.copies.Journal(1)), list(b.journal); !reflect.DeepEqual(got, want) {
		b.t.Errorf("node %d has %d entries instead of %d, or others", n.number, len(got), len(want))
	}
}

// While another node takes copies, what is acknowledged is on its disk.
func TestWhatIsAcknowledgedIsOnAnotherNode(t *testing.T) {
	n := other(t, 2)
	b := begin(t, t.TempDir(), n)
	b.becomes(true, 2)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for i := range 100 {
				id := b.note(fmt.Sprint("show ", i))
				if _, err := n.copies.Journal(1).Get(context.Background(), id); err != nil {
					t.Errorf("%s is not there: %v", id, err)
				}
			}
		})
	}
	all.Wait()
	b.same(n)
	if n.copies.Until(store.KindJournal, 1).IsZero() {
		t.Error("it does not know that it has everything")
	}
}

// A node that fails holds nobody up for longer than it may take, and is given what it missed when it is back; nothing
// is there twice, whatever became of the answers.
func TestANodeThatFails(t *testing.T) {
	for name, fail := range map[string]func(*node) *atomic.Bool{
		"dead":  func(n *node) *atomic.Bool { return &n.dead },
		"mute":  func(n *node) *atomic.Bool { return &n.mute },
		"lost":  func(n *node) *atomic.Bool { return &n.lost },
		"fault": func(n *node) *atomic.Bool { return &n.faulty }} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			n := other(t, 2)
			b := begin(t, t.TempDir(), n)
			b.becomes(true, 2)
			fail(n).Store(true)
			begun := time.Now()
			b.note("while it fails")
			if took := time.Since(begun); took > 2*sendTime {
				t.Errorf("acknowledged after %v", took)
			}
			at := 2
			if name == "fault" { // which node it was is not known then
				at = -1
			}
			if s := b.becomes(false, at); s.Wrong == "" || time.Since(s.Since) > time.Minute {
				t.Errorf("%+v", s)
			}
			for i := range 50 {
				b.note(fmt.Sprint("meanwhile ", i))
			}
			fail(n).Store(false)
			b.becomes(true, 2)
			b.note("when it is back")
			b.same(n)
		})
	}
}

// The node with the next number is asked first, and where it fails another one is given everything.
func TestAnotherNodeTakesOver(t *testing.T) {
	zero, two, three := other(t, 0), other(t, 2), other(t, 3)
	b := begin(t, t.TempDir(), zero, three, two)
	b.becomes(true, 2)
	b.note("to the second")
	if zero.sent.Load()+three.sent.Load() != 0 {
		t.Error("others were sent something")
	}
	two.dead.Store(true)
	b.note("to the third")
	b.becomes(true, 3)
	three.dead.Store(true)
	b.note("to the first")
	b.becomes(true, 0)
	b.same(zero)
	if n := three.copies.Journal(1).Len(); n != 3 {
		t.Errorf("the third has %d", n)
	}
}

// A node that lost its disk begins above what another one knows of it: nothing that it records is taken for a copy of
// what it lost.
func TestANodeWhoseDiskWasReplaced(t *testing.T) {
	n := other(t, 2)
	b := begin(t, t.TempDir(), n)
	b.becomes(true, 2)
	b.ids.New(time.Now().Add(time.Hour)) // its clock was ahead
	b.note("lost here")
	b.mirror.Close()
	again := begin(t, t.TempDir(), n)
	again.becomes(true, 2)
	id := again.note("after that")
	if _, err := n.copies.Journal(1).Get(context.Background(), id); err != nil {
		t.Errorf("%s was taken for an old one: %v", id, err)
	}
	page, err := n.copies.Journal(1).Find(context.Background(), store.EntryFilter{Text: "lost here", Limit: 10})
	if err != nil || len(page.Items) != 1 {
		t.Errorf("what was lost: %v, %v", page.Items, err)
	}
}

// A node that says it has records of years to come does not take the identifiers of this one there.
func TestANodeThatLies(t *testing.T) {
	s := &sender{Source: Source{kind: store.KindJournal, above: func(ident.ID) { t.Error("it is believed") }},
		way: &liar{}}
	if _, err := s.stream(t.Context(), 2); err == nil {
		t.Error("nothing is wrong with it")
	}
}

type liar struct{ way }

func (liar) Send(context.Context, int, string, bool, []byte) (ident.ID, error) {
	return ident.At(time.Now().AddDate(9, 0, 0)), nil
}

// A node that takes less than is recorded does not fill the memory, and whoever waits is told when the mirror ends.
func TestBounds(t *testing.T) {
	n := other(t, 2)
	s := &sender{Source: Source{kind: store.KindJournal}, self: 1, way: &way{[]*node{n}}, log: slog.New(
		slog.DiscardHandler), wake: make(chan struct{}, 1)}
	s.begin()
	s.live(2)
	told := 0
	for range 40 {
		s.take([]record.Block{{Head: make([]byte, 1<<20)}}, func() { told++ })
	}
	if _, err := s.next(t.Context()); !errors.Is(err, errBehind) || told != 40-33 || len(s.queue) != 33 {
		t.Errorf("%v, %d told, %d wait", err, told, len(s.queue))
	}
	s.off(2, errBehind)
	if told != 40 {
		t.Errorf("%d told", told)
	}
	b := begin(t, t.TempDir(), n)
	b.becomes(true, 2)
	n.mute.Store(true)
	done := make(chan ident.ID, 1)
	go func() { done <- b.note("at the end") }()
	for n.sent.Load() == 0 {
		time.Sleep(time.Millisecond)
	}
	b.mirror.Close()
	<-done
	b.note("after the end")
}
