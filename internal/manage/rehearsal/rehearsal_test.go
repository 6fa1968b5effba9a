package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
)

// plan is a configuration whose one policy gives a VLAN.
func plan(t testing.TB, vlan string) *decide.Plan {
	t.Helper()
	c := &config.Config{
		Clients: []*config.Client{{ID: "c1", Name: "np-switch-1", Enabled: true, Addresses: []string{"192.0.2.11"},
			Secret: "x", MessageAuthenticator: "require"}},
		Realms: []*config.Realm{{ID: "r1", Name: "here", Forms: []config.Form{{Kind: config.Bare}}, Rewrite: "{name}",
			Lookup: []config.Lookup{{Store: config.LocalStore, Unreachable: config.Refuse}}}},
		Passes: []*config.Pass{{ID: "p1", Name: "ticketing", VLAN: vlan}},
		Lanes: []*config.Lane{{ID: "l1", Name: "Wired", When: "always", Methods: []string{"pap"},
			Policies: []*config.Policy{{Name: "Ticketing", Enabled: true, When: "group is Ticketing",
				Outcome: config.Admit, Pass: "ticketing"}}}},
	}
	c.Normalise()
	out, problems := decide.Compile(c)
	if out == nil {
		t.Fatal(problems)
	}
	return out
}

// recorded are attempts of people of whom every other is in Ticketing.
func recorded(t testing.TB, n int) *store.Attempts {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	w, err := store.OpenAttempts(context.Background(), dir, ident.NewSource(0), s, record.Retention{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.Close() })
	for i := range n {
		f := facts.Facts{At: time.Now(), Protocol: "radius", Service: "network", Client: "np-switch-1",
			Address: netip.MustParseAddr("192.0.2.11"), PortType: "Ethernet", Port: "1/0/8", MAC: "00-00-5E-00-53-07",
			Sent: fmt.Sprint("p", i%100), Method: "pap", Credential: "ok",
			Attributes: []facts.Attribute{{Name: "NAS-Port-Type", Value: "Ethernet"},
				{Name: "NAS-Port-Id", Value: "1/0/8"}}, Lookups: []facts.Lookup{{Store: config.LocalStore,
				Outcome: "ok"}},
			Person: &facts.Person{Store: config.LocalStore, ID: "x", Name: fmt.Sprint("p", i%100), State: "ok",
				Groups: []string{"Shore Staff", []string{"Ticketing", "Crew"}[i%2]}}}
		if i%10_000 == 9_999 {
			w.Flush(context.Background())
		}
		w.Add(&store.Attempt{At: time.Now(), Verdict: "admitted", Reason: "ok", Client: "np-switch-1", Who: f.Sent,
			Sent: f.Sent, Facts: f.AppendJSON(nil)})
	}
	w.Add(&store.Attempt{At: time.Now(), Verdict: "refused", Reason: "ok", Client: "np-switch-1", Who: "x", Sent: "x",
		Facts: []byte("{")})
	w.Flush(context.Background())
	return w
}

func TestRun(t *testing.T) {
	const n = 30_000
	k := New(recorded(t, n), func() int64 { return 0 })
	in := Input{Before: plan(t, "20"), After: plan(t, "21"), Revision: 7, Draft: "d",
		Since: time.Now().Add(-time.Hour), Until: time.Now().Add(time.Second)}
	told := 0
	r, err := k.Run(context.Background(), in, func(p results.Progress) {
		if told++; p.Done > p.Total {
			t.Errorf("%d of %d", p.Done, p.Total)
		}
	})
	if err != nil || r.Total != n+1 || r.Changed != n/2 || r.Unreadable != 1 || len(r.Differences) != 1 ||
		r.Differences[0].People != 50 || r.Differences[0].After.VLAN != "21" {
		t.Fatalf("%+v, %v", r, err)
	}
	t.Logf("%.0f attempts/s", float64(r.Total)/(float64(r.Micros)/1e6))
	if k.Last() != r {
		t.Error("the last one is not kept")
	}
	in.After = in.Before
	if r, err := k.Run(context.Background(), in, func(results.Progress) {}); err != nil || r.Changed != 0 ||
		len(r.Differences) != 0 {
		t.Errorf("under the same: %+v, %v", r, err)
	}
	in.Since = time.Now().Add(time.Hour)
	if r, err := k.Run(context.Background(), in, func(results.Progress) {}); err != nil || r.Total != 0 {
		t.Errorf("of no time: %+v, %v", r, err)
	}
}

func TestStopping(t *testing.T) {
	k := New(recorded(t, 10_000), func() int64 { return 0 })
	in := Input{Before: plan(t, "20"), After: plan(t, "21"), Since: time.Now().Add(-time.Hour),
		Until: time.Now().Add(time.Second)}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := k.Run(ctx, in, func(results.Progress) {}); !errors.Is(err, context.Canceled) || k.Last() != nil {
		t.Errorf("a rehearsal that was stopped: %v", err)
	}
	k.running = true
	if _, err := k.Run(context.Background(), in, func(results.Progress) {}); !errors.Is(err, ErrRunning) {
		t.Errorf("two at once: %v", err)
	}
}

func BenchmarkRehearsal(b *testing.B) {
	const n = 100_000
	k := New(recorded(b, n), func() int64 { return 0 })
	in := Input{Before: plan(b, "20"), After: plan(b, "21"), Since: time.Now().Add(-time.Hour),
		Until: time.Now().Add(time.Second)}
	for b.Loop() {
		if _, err := k.Run(context.Background(), in, func(results.Progress) {}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(n*b.N)/b.Elapsed().Seconds(), "attempts/s")
}
