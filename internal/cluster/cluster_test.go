package cluster

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/cluster/etcd"
	"tollgate.example/key/internal/store"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == "-run-engine" {
		os.Exit(etcd.Main())
	}
	os.Exit(m.Run())
}

// machine is a node, or a witness, of a test.
type machine struct {
	t    *testing.T
	dir  string
	c    *Cluster
	s    *store.Store
	box  *seal.Box
	told sync.Map
	stop context.CancelFunc
	done chan struct{}
}

var command = func() []string {
	self, err := os.Executable()
	if err != nil {
		panic(err)
	}
	return []string{self, "-run-engine"}
}()

func (m *machine) open() {
	m.t.Helper()
	var err error
	if m.box, err = seal.Open(filepath.Join(m.dir, "key")); err != nil {
		m.t.Fatal(err)
	}
	if m.s, err = store.Open(m.t.Context(), m.dir); err != nil {
		m.t.Fatal(err)
	}
	m.c, err = Open(m.t.Context(), Options{Dir: m.dir, Address: "127.0.0.1:0", Version: "test", Command: command,
		Store: m.s, Box: m.box, Log: slog.New(slog.DiscardHandler),
		Tell: func(_ context.Context, kind, id string) error { m.told.Store(kind+" "+id, true); return nil }})
	if err != nil {
		m.t.Fatal(err)
	}
}

func (m *machine) close() {
	if m.c != nil {
		m.c.Close()
		m.s.Close()
		m.c = nil
	}
	if m.stop != nil {
		m.stop()
		<-m.done
		m.stop = nil
	}
}

// machines are nodes that are together, the last of them a witness if it is asked for.
func machines(t *testing.T, count int, witness bool) []*machine {
	t.Helper()
	first := &machine{t: t, dir: t.TempDir()}
	first.open()
	t.Cleanup(first.close)
	out := []*machine{first}
	for i := 1; i < count; i++ {
		name := fmt.Sprintf("n%d", i)
		invitation, err := first.c.Invite(t.Context(), name, witness && i == count-1, "o.brandt")
		if err != nil {
			t.Fatal(err)
		}
		m := &machine{t: t, dir: t.TempDir()}
		watches := witness && i == count-1
		if err := Join(t.Context(), JoinOptions{Dir: m.dir, Token: invitation.Token(), Address: "127.0.0.1:0",
			Version: "test", Witness: watches}); err != nil {
			t.Fatal(err)
		}
		if watches {
			m.watch()
		} else {
			m.open()
		}
		t.Cleanup(m.close)
		out = append(out, m)
	}
	first.until("all are members", func() bool {
		list, err := first.c.running().client.MemberList(t.Context())
		if err != nil || len(list.Members) != count {
			return false
		}
		for _, m := range list.Members {
			if m.IsLearner {
				return false
			}
		}
		return true
	})
	return out
}

func (m *machine) watch() {
	ctx, cancel := context.WithCancel(context.Background())
	m.stop, m.done = cancel, make(chan struct{})
	go func() {
		defer close(m.done)
		if err := Witness(ctx, m.dir, "test", command, slog.New(slog.DiscardHandler)); err != nil {
			m.t.Error(err)
		}
	}()
}

func (m *machine) until(what string, is func() bool) {
	m.t.Helper()
	for end := time.Now().Add(60 * time.Second); !is(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			m.t.Fatalf("it never came about that %s: %+v", what, m.c.State(m.t.Context()))
		}
	}
}

// signal sends a signal to the engine of a node.
func (m *machine) signal(s syscall.Signal) {
	if r := m.c.running(); r != nil {
		if pid := r.engine.State().PID; pid != 0 {
			syscall.Kill(pid, s)
		}
	}
}

func account(id string) store.Account {
	return store.Account{ID: id, Name: "n-" + id, Groups: []byte("[]")}
}

// Engines are killed and halted while all nodes write: what was acknowledged is on every node in the end, and what was
// refused for sure is on none.
func TestNothingAcknowledgedIsLost(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 3, false)
	ctx, stop := context.WithCancel(t.Context())
	var acknowledged, refused sync.Map
	var count, failed atomic.Int64
	var all sync.WaitGroup
	for i, m := range nodes {
		for w := range 3 {
			all.Go(func() {
				for n := 0; ctx.Err() == nil; n++ {
					id := fmt.Sprintf("%d-%d-%d", i, w, n)
					switch err := m.s.SaveAccount(context.Background(), account(id)); {
					case err == nil:
						acknowledged.Store(id, true)
						count.Add(1)
					case errors.Is(err, store.ErrTaken):
						refused.Store(id, true)
					default: // it may have happened, or not
						failed.Add(1)
						time.Sleep(10 * time.Millisecond)
					}
				}
			})
		}
	}
	rounds := 4
	for round := range rounds {
		victim := nodes[round%3]
		written := func(what string) {
			t.Helper()
			before := count.Load()
			victim.until(what, func() bool { return count.Load() > before+10 })
		}
		if round%2 == 0 {
			victim.signal(syscall.SIGKILL)
			written("something is written after an engine was killed")
		} else { // cut off, and back
			victim.signal(syscall.SIGSTOP)
			time.Sleep(3 * time.Second)
			written("something is written while one of three engines is halted")
			victim.signal(syscall.SIGCONT)
			time.Sleep(time.Second)
		}
	}
	stop()
	all.Wait()
	last := nodes[0].s.Applied()
	for _, m := range nodes {
		last = max(last, m.s.Applied())
	}
	var sets []map[string]bool
	for i, m := range nodes {
		m.until("a node comes to the end of the log", func() bool { return m.s.Applied() >= last })
		list, err := m.s.Accounts(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		have := map[string]bool{}
		for _, a := range list {
			have[a.ID] = true
		}
		missing := 0
		acknowledged.Range(func(id, _ any) bool {
			if !have[id.(string)] {
				missing++
			}
			return true
		})
		if missing > 0 {
			t.Errorf("node %d lacks %d of %d changes that were acknowledged", i, missing, count.Load())
		}
		sets = append(sets, have)
	}
	if len(sets[0]) != len(sets[1]) || len(sets[1]) != len(sets[2]) {
		t.Errorf("the nodes do not have the same: %d, %d and %d", len(sets[0]), len(sets[1]), len(sets[2]))
	}
	t.Logf("%d changes acknowledged, %d not, in %d rounds", count.Load(), failed.Load(), rounds)
}

// With a witness one of two nodes goes on when the other dies; without a majority nothing is changed and nothing hangs.
func TestWitnessAndRecovery(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 3, true)
	a, b, eye := nodes[0], nodes[1], nodes[2]
	if err := a.s.SaveAccount(t.Context(), account("1")); err != nil {
		t.Fatal(err)
	}
	b.until("the other has it", func() bool { _, ok := b.told.Load("account 1"); return ok })
	for _, name := range []string{"key", "tollgate.db"} {
		if _, err := os.Stat(filepath.Join(eye.dir, name)); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("a witness has %s", name)
		}
	}
	a.close()
	begun := time.Now()
	for {
		err := b.s.SaveAccount(t.Context(), account("2"))
		if err == nil {
			break
		}
		if time.Since(begun) > 10*time.Second {
			t.Fatal(err)
		}
	}
	t.Logf("writes go on %v after one of two nodes ended", time.Since(begun))
	eye.close()
	b.until("it is cut off", func() bool { return !b.c.State(t.Context()).CutOff.IsZero() })
	b.until("it knows at once", func() bool {
		begun := time.Now()
		err := b.s.SaveAccount(t.Context(), account("3"))
		return errors.Is(err, store.ErrCutOff) && time.Since(begun) < 500*time.Millisecond
	})
	// what must go on goes on here alone
	key := store.Key{ID: "k", Kind: "session", Hash: []byte("k"), Operator: "o"}
	if err := b.s.AddOperator(t.Context(), store.Operator{ID: "o", Name: "o", Role: "owner"}, false); !errors.Is(
		err,
		store.ErrCutOff,
	) {
		t.Errorf("an operator is added while cut off: %v", err)
	}
	if err := b.c.Recover(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"1", "2"} {
		if _, err := b.s.AccountByID(t.Context(), id); err != nil {
			t.Errorf("account %s did not survive: %v", id, err)
		}
	}
	if err := b.s.AddOperator(t.Context(), store.Operator{ID: "o", Name: "o", Role: "owner"}, false); err != nil {
		t.Fatal(err)
	}
	if err := b.s.AddKey(t.Context(), key); err != nil {
		t.Fatal(err)
	}
	// the old one comes back with what it was: it is none of the others, and there are no two truths
	a.open()
	if err := a.s.SaveAccount(t.Context(), account("4")); err == nil {
		t.Error("a node of before the recovery changes things")
	}
	if _, err := b.s.AccountByID(t.Context(), "4"); err == nil {
		t.Error("its change is there")
	}
}

// A node whose engine lost its data, and one that was away for longer than the log goes back, get the state of another.
func TestAwayForLong(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 3, true)
	a, b := nodes[0], nodes[1]
	b.close()
	for i := range 50 {
		if err := a.s.SaveAccount(t.Context(), account(fmt.Sprint(i))); err != nil {
			t.Fatal(err)
		}
	}
	last := a.s.Applied()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	r := a.c.running()
	upTo := clientv3.WithRange(r.log.entryKey(last - 5)) // as trim does
	if _, err := r.client.Delete(ctx, r.log.logKey, upTo); err != nil {
		t.Fatal(err)
	}
	b.open()
	b.until("it has what it missed", func() bool { return b.s.Applied() >= last })
	if list, err := b.s.Accounts(t.Context()); err != nil || len(list) != 50 {
		t.Errorf("%d accounts, %v", len(list), err)
	}
	if _, ok := b.told.Load("account 7"); !ok {
		t.Error("those who keep accounts are not told")
	}
	if err := b.s.SaveAccount(t.Context(), account("after")); err != nil {
		t.Error(err)
	}
}
