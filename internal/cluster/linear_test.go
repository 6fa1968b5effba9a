package cluster

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"net/netip"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/anishathalye/porcupine"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
)

// claim is a one-time code that is shown to a node, or a revision that is published there; unknown tells that nobody
// knows whether it counted, stale that it was refused since it was asked for by what was no more the newest.
type claim struct{ number int }

type outcome struct{ won, unknown, stale bool }

// everLater allows codes of later steps alone, as RFC 6238 wants it: each counts once.
var everLater = porcupine.Model{
	Init: func() any { return -1 },
	Step: func(state, input, output any) (bool, any) {
		last, n, out := state.(int), input.(claim).number, output.(outcome)
		switch {
		case out.won:
			return n > last, n
		case out.unknown:
			return true, max(last, n)
		}
		return n <= last, last
	},
}

// inOrder allows revisions one after another.
var inOrder = porcupine.Model{
	Init: func() any { return 0 },
	Step: func(state, input, output any) (bool, any) {
		last, n, out := state.(int), input.(claim).number, output.(outcome)
		switch {
		case out.won:
			return last == n-1, n
		case out.unknown:
			if last == n-1 {
				return true, n
			}
			return true, last
		case out.stale:
			return true, last
		}
		return last >= n, last
	},
}

// history records what nodes were asked and answered.
type history struct {
	mu    sync.Mutex
	begun time.Time
	ops   []porcupine.Operation
}

func (h *history) record(client, number int, ask func() outcome) outcome {
	call := time.Since(h.begun).Nanoseconds()
	out := ask()
	end := time.Since(h.begun).Nanoseconds()
	if out.unknown {
		end = math.MaxInt64 // it may happen later
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ops = append(h.ops, porcupine.Operation{ClientId: client, Input: claim{number}, Call: call, Output: out,
		Return: end})
	return out
}

// disturb kills and halts engines until the context ends.
func disturb(ctx context.Context, nodes []*machine) {
	for n := 0; ctx.Err() == nil; n++ {
		victim := nodes[rand.IntN(len(nodes))]
		if n%2 == 0 {
			victim.signal(syscall.SIGKILL)
		} else {
			victim.signal(syscall.SIGSTOP)
			time.Sleep(time.Duration(500+rand.IntN(1500)) * time.Millisecond)
			victim.signal(syscall.SIGCONT)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(1000+rand.IntN(1500)) * time.Millisecond):
		}
	}
}

// One-time codes that are shown to three nodes at once while engines die count once, and revisions that three nodes
// publish come one after another: some order of all that was asked explains every answer.
func TestClaimsAndRevisionsAreLinearizable(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 3, false)
	keepers := codeKeepers(t, nodes)
	seed := enrolled(t, keepers[0])
	for i, m := range nodes {
		m.until("all nodes have the token", func() bool { return keepers[i].Enrolled("local", "k.nance", time.Now()) })
	}
	ctx, stop := context.WithCancel(t.Context())
	var disturbing, all sync.WaitGroup
	disturbing.Go(func() { disturb(ctx, nodes) })
	codes, revisions := &history{begun: time.Now()}, &history{begun: time.Now()}
	first := time.Now().Add(time.Hour).Truncate(30 * time.Second)
	all.Go(func() {
		for step := range 40 { // each code is shown to all nodes at once
			at := first.Add(time.Duration(step) * 90 * time.Second)
			code, err := factor.Code(seed, at)
			if err != nil {
				t.Error(err)
			}
			var shown sync.WaitGroup
			for i := range nodes {
				shown.Go(func() {
					codes.record(i, step, func() outcome {
						got, _, _ := keepers[i].Check(context.Background(), "local", "k.nance", code, "sw-1", at)
						return outcome{won: got == reason.OK, unknown: got == reason.FactorFailed}
					})
				})
			}
			shown.Wait()
		}
	})
	for i, m := range nodes {
		all.Go(func() {
			for n := 1; n <= 60; {
				out := revisions.record(10+i, n, func() outcome { return publish(m.s, n) })
				if n++; !out.won {
					n = latestRevision(m.s) + 1
				}
			}
		})
	}
	all.Wait()
	stop()
	disturbing.Wait()
	for what, one := range map[string]struct {
		model porcupine.Model
		ops   []porcupine.Operation
	}{"codes": {everLater, codes.ops}, "revisions": {inOrder, revisions.ops}} {
		won, unknown := 0, 0
		for _, op := range one.ops {
			if out := op.Output.(outcome); out.won {
				won++
			} else if out.unknown {
				unknown++
			}
		}
		t.Logf("%s: %d asked, %d counted, %d unknown", what, len(one.ops), won, unknown)
		if won < 10 {
			t.Errorf("%s: only %d counted", what, won)
		}
		if got := porcupine.CheckOperationsTimeout(one.model, one.ops, time.Minute); got != porcupine.Ok {
			t.Errorf("%s: no order of what was asked explains the answers: %v", what, got)
			for _, op := range one.ops {
				t.Logf("%d %+v %+v %d..%d", op.ClientId, op.Input, op.Output, op.Call/1000, op.Return/1000)
			}
		}
	}
}

func publish(s *store.Store, n int) outcome {
	err := s.Publish(context.Background(), store.Revision{Number: n, Changes: []byte("[]")},
		[]store.Object{{Kind: "client", ID: "c", Body: []byte("{}")}})
	switch {
	case err == nil:
		return outcome{won: true}
	case errors.Is(err, store.ErrChanged):
		return outcome{stale: true}
	case strings.Contains(err.Error(), "UNIQUE"):
		return outcome{}
	}
	return outcome{unknown: true}
}

func latestRevision(s *store.Store) int {
	r, err := s.Revision(context.Background(), 0)
	if err != nil {
		return 0
	}
	return r.Number
}

// enrolled is the seed of a token of k.nance that is confirmed.
func enrolled(t *testing.T, k *factor.Keeper) string {
	t.Helper()
	now := time.Now()
	const seed = "JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP"
	offer, err := k.Enrol(t.Context(), factor.Request{Store: "local", Name: "k.nance", Seed: seed}, now)
	if err != nil {
		t.Fatal(err)
	}
	code, err := factor.Code(seed, now)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Confirm(t.Context(), offer.Token.ID, code, now); err != nil {
		t.Fatal(err)
	}
	return seed
}

// Three nodes give the addresses of one pool while engines die: none is given twice, and in the end none is left.
func TestAddressesAreGivenOnce(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 3, false)
	pool := &config.Pool{ID: "p", Name: "visitors", Ranges: []string{"203.0.113.0/25"}}
	var tending, disturbing, all sync.WaitGroup
	ctx, stop := context.WithCancel(t.Context())
	keepers := make([]*session.Keeper, len(nodes))
	for i, m := range nodes {
		k, err := session.Open(t.Context(), m.s, time.Time{})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(k.Close)
		keepers[i] = k
		m.c.o.Tell = func(ctx context.Context, kind, id string) error {
			if kind == "lease-block" {
				return k.ReloadBlock(ctx, id)
			}
			return nil
		}
		if err := k.Share(t.Context(), m.s, i); err != nil {
			t.Fatal(err)
		}
		tending.Go(func() { k.Tend(ctx, func() []*config.Pool { return []*config.Pool{pool} }) })
	}
	disturbing.Go(func() { disturb(ctx, nodes) })
	var mu sync.Mutex
	given := map[netip.Addr]int{}
	for i := range nodes {
		all.Go(func() {
			for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
				a := keepers[i].Take(session.NewPool(pool), "", "k.nance", "sw-1", time.Now(), time.Hour)
				mu.Lock()
				if a.IsValid() {
					if other, twice := given[a]; twice {
						t.Errorf("%s is given by node %d and by node %d", a, other, i)
					}
					given[a] = i
				}
				done := len(given) == 126
				mu.Unlock()
				if done {
					return
				}
			}
		})
	}
	all.Wait()
	stop()
	disturbing.Wait()
	tending.Wait()
	if len(given) < 126 {
		t.Errorf("only %d of 126 addresses were given", len(given))
	}
	t.Logf("%d of 126 addresses were given", len(given))
}

// codeKeepers are the keepers of second factors of nodes, which are told what other nodes change.
func codeKeepers(t *testing.T, nodes []*machine) []*factor.Keeper {
	t.Helper()
	keepers := make([]*factor.Keeper, len(nodes))
	for i, m := range nodes {
		m.until("all nodes have what was made", func() bool { return m.s.Applied() >= nodes[0].s.Applied() })
		k, err := factor.Open(t.Context(), m.s.PeopleFactors(), m.box, ident.NewSource(uint8(i)))
		if err != nil {
			t.Fatal(err)
		}
		keepers[i] = k
		m.c.o.Tell = func(ctx context.Context, kind, id string) error {
			if kind == "factor" {
				return k.Reload(ctx, id)
			}
			return nil
		}
	}
	return keepers
}
