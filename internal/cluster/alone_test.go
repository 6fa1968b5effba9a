package cluster

import (
	"errors"
	"syscall"
	"testing"
	"time"

	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/store"
)

// While no majority is reached a code is refused, or by a setting taken and looked at afterwards: one that counted on
// both nodes is found, and what each took stays taken on both. Operators sign in, emergency accounts open.
func TestCutOffAndBack(t *testing.T) {
	t.Parallel()
	nodes := machines(t, 2, false)
	keepers := codeKeepers(t, nodes)
	seed := enrolled(t, keepers[0])
	emergency := account("e")
	emergency.Emergency = "port.type is Ethernet"
	if err := nodes[0].s.SaveAccount(t.Context(), emergency); err != nil {
		t.Fatal(err)
	}
	if err := nodes[0].s.AddOperator(t.Context(), store.Operator{ID: "o", Name: "o", Role: "owner"}, true); err != nil {
		t.Fatal(err)
	}
	last := nodes[0].s.Applied()
	for i, m := range nodes {
		m.until("both have the token", func() bool {
			return keepers[i].Enrolled("local", "k.nance", time.Now()) && m.s.Applied() >= last
		})
	}
	nodes[1].signal(syscall.SIGSTOP) // of two, both are a majority
	for _, m := range nodes {
		m.until("both know that they are cut off", func() bool {
			r := m.c.running()
			return r.log.cutOff.Load()
		})
	}
	now := time.Now().Add(time.Hour).Truncate(30 * time.Second)
	show := func(node int, step time.Duration) reason.Code {
		at := now.Add(step * 90 * time.Second)
		code, err := factor.Code(seed, at)
		if err != nil {
			t.Fatal(err)
		}
		got, _, _ := keepers[node].Check(t.Context(), "local", "k.nance", code, "sw-1", at)
		return got
	}
	if got := show(0, 0); got != reason.FactorFailed {
		t.Errorf("cut off, a code gives %s", got)
	}
	for i, k := range keepers {
		k.TakeAlone(true)
		if got := show(i, 1); got != reason.OK {
			t.Errorf("cut off, node %d gives %s for a code that is to be taken", i, got)
		}
		if got := show(i, 1); got != reason.FactorUsed {
			t.Errorf("the same node takes it again: %s", got)
		}
	}
	if got := show(1, 2); got != reason.OK {
		t.Errorf("another code: %s", got)
	}
	for i, m := range nodes {
		begun := time.Now()
		if err := m.s.AddKey(t.Context(), store.Key{ID: string(rune('a' + i)), Kind: "session",
			Hash: []byte{byte(i)}, Operator: "o"}); err != nil {
			t.Errorf("an operator cannot sign in: %v", err)
		}
		if err := m.s.OpenEmergency(t.Context(), "e", "sw-1", 1); err != nil {
			t.Errorf("an emergency account does not open: %v", err)
		}
		if took := time.Since(begun); took > time.Second {
			t.Errorf("what is done alone took %v", took)
		}
		if err := m.s.SaveAccount(t.Context(), account("x")); !errors.Is(err, store.ErrCutOff) {
			t.Errorf("an account is added: %v", err)
		}
	}
	nodes[1].signal(syscall.SIGCONT)
	twice := 0
	for i, m := range nodes {
		m.until("what was done alone is shared", func() bool {
			if m.c.running().log.cutOff.Load() {
				return false
			}
			list, err := m.s.Unshared(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			for _, u := range list {
				ours, err := m.s.ShareAgain(t.Context(), u)
				if err != nil || ours || u.Table != "factors" {
					continue
				}
				_, name, n, err := keepers[i].Reunite(t.Context(), &u)
				if err != nil || name != "k.nance" {
					t.Errorf("bringing together what was taken: %s, %v", name, err)
				}
				twice += n
			}
			return len(list) == 0
		})
	}
	if twice != 1 {
		t.Errorf("%d codes are found to have counted twice instead of one", twice)
	}
	last = max(nodes[0].s.Applied(), nodes[1].s.Applied())
	for i, m := range nodes {
		m.until("both have the same again", func() bool { return m.s.Applied() >= last })
		time.Sleep(200 * time.Millisecond) // and those who keep it know
		for _, step := range []time.Duration{1, 2} {
			if got := show(i, step); got != reason.FactorUsed {
				t.Errorf("code %d counts again on node %d: %s", step, i, got)
			}
		}
		if keys, err := m.s.Keys(t.Context(), "session"); err != nil || len(keys) != 2 {
			t.Errorf("node %d knows %d sessions, %v", i, len(keys), err)
		}
	}
}
