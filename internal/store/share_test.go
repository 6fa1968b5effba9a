package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
)

// logOf is a log in memory for several stores. A node that is cut off gets nothing and adds nothing.
type logOf struct {
	mu      sync.Mutex
	entries []LogEntry
	ids     atomic.Int64
	nodes   []*logNode
}

type logNode struct {
	log   *logOf
	s     *Store
	off   atomic.Bool
	touch func(Touched)
}

func (n *logNode) NewID() string { return fmt.Sprint(n.log.ids.Add(1)) }

func (n *logNode) Add(_ context.Context, after int64, id string, data []byte) (bool, error) {
	if n.off.Load() {
		return false, ErrCutOff
	}
	n.log.mu.Lock()
	defer n.log.mu.Unlock()
	if int64(len(n.log.entries)) != after {
		return false, nil
	}
	n.log.entries = append(n.log.entries, LogEntry{after + 1, id, data})
	return true, nil
}

func (n *logNode) follow(ctx context.Context, t *testing.T) {
	for ctx.Err() == nil {
		n.log.mu.Lock()
		list := n.log.entries[n.s.Applied():]
		n.log.mu.Unlock()
		if len(list) == 0 || n.off.Load() {
			time.Sleep(time.Millisecond)
			continue
		}
		changed, err := n.s.Apply(context.Background(), list)
		if err != nil {
			t.Error(err)
			return
		}
		for i, one := range list {
			for _, c := range changed[i] {
				if n.touch != nil {
					n.touch(c)
				}
			}
			n.s.Told(one.Number)
		}
	}
}

// together are stores that share a log.
func together(t *testing.T, count int) []*logNode {
	t.Helper()
	log := &logOf{}
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	for i := range count {
		s, err := Open(ctx, t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		if err := s.SetSharedState(ctx, SharedState{"e1", i + 1, 0}); err != nil {
			t.Fatal(err)
		}
		n := &logNode{log: log, s: s}
		stop, err := s.Share(ctx, n)
		if err != nil {
			t.Fatal(err)
		}
		log.nodes = append(log.nodes, n)
		running.Go(func() { n.follow(ctx, t) })
		t.Cleanup(func() { stop(); s.Close() })
	}
	t.Cleanup(func() { cancel(); running.Wait() })
	return log.nodes
}

func (n *logNode) at(t *testing.T, number int64) {
	t.Helper()
	for end := time.Now().Add(5 * time.Second); n.s.Applied() < number; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("a node came to entry %d instead of %d", n.s.Applied(), number)
		}
	}
}

func TestNodesShareRows(t *testing.T) {
	ctx, nodes := t.Context(), together(t, 2)
	a, b := nodes[0], nodes[1]
	var told sync.Map
	b.touch = func(c Touched) { told.Store(c, true) }
	odd := Account{ID: "a1", Name: "k.nance\xff", Groups: []byte{0, 1, 255}, Keeps: "hash", Expires: 1 << 60}
	if err := a.s.SaveAccount(ctx, odd); err != nil {
		t.Fatal(err)
	}
	b.at(t, 1)
	if got, err := b.s.AccountByID(ctx, "a1"); err != nil || fmt.Sprint(got) != fmt.Sprint(odd) {
		t.Errorf("%+v, %v", got, err)
	}
	if _, ok := told.Load(Touched{"account", "a1"}); !ok {
		t.Error("nobody is told of the account")
	}
	if err := b.s.SaveAccount(ctx, Account{ID: "a2", Name: "K.NANCE\xff", Groups: []byte("[]")}); !errors.Is(
		err,
		ErrTaken,
	) {
		t.Errorf("the name of another is taken: %v", err)
	}
	if err := a.s.AddOperator(ctx, Operator{ID: "o1", Name: "o.brandt", Role: "owner"}, true); err != nil {
		t.Fatal(err)
	}
	if err := a.s.AddKey(ctx, Key{ID: "s1", Kind: "session", Hash: []byte("h"), Operator: "o1"}); err != nil {
		t.Fatal(err)
	}
	b.at(t, 3)
	if err := b.s.ResetOwner(ctx, Operator{ID: "o2", Name: "o.brandt"}); err != nil { // takes the key along
		t.Fatal(err)
	}
	a.at(t, 4)
	if keys, err := a.s.Keys(ctx, "session"); err != nil || len(keys) != 0 {
		t.Errorf("%+v, %v", keys, err)
	}
	if err := b.s.RemoveAccount(ctx, "a1"); err != nil {
		t.Fatal(err)
	}
	a.at(t, 5)
	if _, err := a.s.AccountByID(ctx, "a1"); !errors.Is(err, ErrNotFound) {
		t.Errorf("it is still there: %v", err)
	}
	b.off.Store(true)
	begun := time.Now()
	if err := b.s.SaveAccount(ctx, odd); !errors.Is(err, ErrCutOff) || time.Since(begun) > time.Second {
		t.Errorf("cut off: %v", err)
	}
	if _, err := b.s.AccountByID(ctx, "a1"); !errors.Is(err, ErrNotFound) {
		t.Errorf("what was refused is there: %v", err)
	}
}

// Two nodes that publish at once do not both succeed, and whoever decided by what another node changed is told.
func TestOnlyOneNodeWins(t *testing.T) {
	ctx, nodes := t.Context(), together(t, 3)
	var won atomic.Int64
	var all sync.WaitGroup
	for round := range 20 {
		won.Store(0)
		for _, n := range nodes {
			n.at(t, int64(round))
			all.Go(func() {
				if err := n.s.Publish(ctx, Revision{Number: round + 1, Changes: []byte("[]")},
					[]Object{{"client", "c", []byte("{}")}}); err == nil {
					won.Add(1)
				}
			})
		}
		all.Wait()
		if won.Load() != 1 {
			t.Fatalf("%d nodes published revision %d", won.Load(), round+1)
		}
	}
	// n was told of nothing since: what another node did to the same record makes its decision stale
	a, h := nodes[0], nodes[1].s.shared.Load()
	if err := a.s.SaveDevices(ctx, []Device{{ID: "d", Match: "02", Tags: []byte("{}")}}); err != nil {
		t.Fatal(err)
	}
	nodes[1].at(t, 21)
	h.told.Store(20)
	h.mu.Lock()
	h.others[Touched{"device", "d"}] = 21
	h.mu.Unlock()
	if err := nodes[1].s.SaveDevices(ctx, []Device{{ID: "d", Match: "03", Tags: []byte("{}")}}); !errors.Is(err,
		ErrChanged) {
		t.Errorf("a stale decision is taken: %v", err)
	}
	if err := nodes[1].s.SaveDevices(ctx, []Device{{ID: "e", Match: "03", Tags: []byte("{}")}}); err != nil {
		t.Errorf("another record is refused as well: %v", err)
	}
}

// A node that was away for too long takes the state of another one, and is told what is another record now.
func TestSnapshotOfAnotherNode(t *testing.T) {
	ctx, nodes := t.Context(), together(t, 2)
	a, b := nodes[0], nodes[1]
	keep := Account{ID: "same", Name: "s.lodge", Groups: []byte("[]")}
	for _, one := range []Account{keep, {ID: "goes", Name: "g.one", Groups: []byte("[]")},
		{ID: "changes", Name: "c.one", Groups: []byte("[]")}} {
		if err := a.s.SaveAccount(ctx, one); err != nil {
			t.Fatal(err)
		}
	}
	b.at(t, 3)
	b.off.Store(true)
	if err := a.s.AddOperator(ctx, Operator{ID: "o1", Name: "o.brandt", Role: "owner"}, true); err != nil {
		t.Fatal(err)
	}
	for _, do := range []func() error{
		func() error { return a.s.RemoveAccount(ctx, "goes") },
		func() error { return a.s.SaveAccount(ctx, Account{ID: "changes", Name: "g.one", Groups: []byte("[]")}) },
		func() error {
			return a.s.AddKey(ctx, Key{ID: "s1", Kind: "session", Hash: []byte("h"), Operator: "o1"})
		},
	} {
		if err := do(); err != nil {
			t.Fatal(err)
		}
	}
	path := t.TempDir() + "/copy.db"
	if err := a.s.Snapshot(ctx, path); err != nil {
		t.Fatal(err)
	}
	told, err := b.s.TakeSnapshot(ctx, path)
	if err != nil || fmt.Sprint(len(told)) != "2" || b.s.Applied() != 7 {
		t.Fatalf("told of %v at %d, %v", told, b.s.Applied(), err)
	}
	b.s.Told(7)
	if _, err := b.s.AccountByID(ctx, "goes"); !errors.Is(err, ErrNotFound) {
		t.Errorf("what is gone is there: %v", err)
	}
	if got, err := b.s.AccountByID(ctx, "changes"); err != nil || got.Name != "g.one" {
		t.Errorf("%+v, %v", got, err)
	}
	b.off.Store(false)
	if err := b.s.RemoveAccount(ctx, "same"); err != nil { // and it goes on from there
		t.Fatal(err)
	}
}

// A change that goes through the log touches shared tables alone: what else it did would be lost without a word.
func TestWhatIsOfOneNodeDoesNotGoThroughTheLog(t *testing.T) {
	ctx, nodes := t.Context(), together(t, 1)
	s := nodes[0].s
	err := s.within(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			"INSERT OR REPLACE INTO positions (name, kind, id, at) VALUES ('f', 'attempt', 1, 1)",
		)
		return err
	})
	if err == nil || !strings.Contains(err.Error(), "positions") {
		t.Errorf("a table of this node alone goes through the log: %v", err)
	}
	err = s.within(ctx, func(*sqlx.Tx) error { panic("a fault") })
	if err == nil || !strings.Contains(err.Error(), "fault of the program") {
		t.Errorf("a fault of a change: %v", err)
	}
	if err := s.SaveAccount(ctx, Account{ID: "a", Name: "a", Groups: []byte("[]")}); err != nil {
		t.Errorf("after both nothing goes on: %v", err)
	}
}
