package presence

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
)

func hostWorld(t *testing.T) (*world, *Source) {
	w := start(t, &config.Config{Sources: []*config.Source{{ID: "1", Name: "desks", Enabled: true,
		Way: config.SourceHosts, Secret: "one"}}})
	s, err := w.ByToken("one", netip.MustParseAddr("192.0.2.41"))
	if err != nil {
		t.Fatal(err)
	}
	return w, s
}

// Whatever a host said before, and whichever of its reports were lost: after a report those are there whom it names,
// and nobody else.
func TestAHostIsWhatItSaidLast(t *testing.T) {
	w, s := hostWorld(t)
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 11))
	address := netip.MustParseAddr("192.0.2.41")
	for round := range 300 {
		w.after(time.Duration(r.IntN(400_000)) * time.Millisecond)
		var people []HostPerson
		for i := range 6 {
			if r.IntN(2) == 0 {
				people = append(
					people,
					HostPerson{Who: fmt.Sprintf("LANTERN\\crew-%d", i), For: time.Duration(r.IntN(100)) *
						time.Hour, Ports: core.Ports{First: uint16(1000 + 100*i), Last: uint16(1099 + 100*i)}},
				)
			}
		}
		refused, err := w.TakeHost(s, Host{Address: address, Name: "desk", People: people})
		if err != nil || len(refused) > 0 {
			t.Fatal(round, refused, err)
		}
		for i := range 6 {
			want := ""
			for _, p := range people {
				if p.Who == fmt.Sprintf("LANTERN\\crew-%d", i) {
					want = p.Who[len(`LANTERN\`):]
				}
			}
			got := ""
			for _, e := range w.Here(address) {
				if e.Ports.Has(uint16(1050 + 100*i)) {
					got = e.Who
				}
			}
			if got != want {
				t.Fatalf("round %d: %q has the ports of crew-%d, wanted %q of %+v", round, got, i, want, people)
			}
		}
		if r.IntN(40) == 0 {
			w.stop()
			w.open()
			if s, err = w.ByToken("one", address); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// A host that goes silent while somebody is signed in there is missed; one that says goodbye, or had nobody, is not.
func TestLostHosts(t *testing.T) {
	w, s := hostWorld(t)
	for i, people := range [][]HostPerson{{{Who: "s.lodge"}}, {{Who: "n.quay"}}, nil} {
		if _, err := w.TakeHost(s, Host{Address: netip.AddrFrom4([4]byte{192, 0, 2, byte(50 + i)}),
			Name: fmt.Sprint("desk-", i), People: people}); err != nil {
			t.Fatal(err)
		}
	}
	state := func() State {
		for _, one := range w.Sources() {
			if one.Name == "desks" {
				return one
			}
		}
		t.Fatal("no such source")
		return State{}
	}
	if one := state(); one.Hosts != 3 || len(one.Lost) != 0 {
		t.Errorf("at first: %+v", one)
	}
	if _, err := w.TakeHost(s, Host{Address: netip.MustParseAddr("192.0.2.51"), Name: "desk-1"}); err != nil {
		t.Fatal(err)
	}
	w.after(6 * time.Minute)
	if one := state(); one.Hosts != 0 || len(one.Lost) != 1 || one.Lost[0].Name != "desk-0" {
		t.Errorf("later: %+v", one)
	}
	w.after(25 * time.Hour)
	if one := state(); len(one.Lost) != 0 {
		t.Errorf("a day later: %+v", one)
	}
	for range 5 {
		if _, err := w.TakeHost(s, Host{Address: netip.MustParseAddr("192.0.2.52")}); err != nil {
			if !errors.Is(err, ErrFlood) {
				t.Error(err)
			}
			return
		}
	}
	t.Error("five reports in a moment were all taken")
}
