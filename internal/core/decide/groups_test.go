package decide

import (
	"slices"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

// twoStores is a lane whose people come from a directory and from here, with a policy for each group.
func twoStores(t *testing.T, picked []config.PickedGroup, groups ...string) *Plan {
	t.Helper()
	c := &config.Config{
		Directories: []*config.Directory{{ID: "d", Name: "LANTERN", Kind: config.ActiveDirectory,
			Servers: []string{"192.0.2.53:636"}, TLS: config.LDAPS, Groups: picked}},
		Realms: []*config.Realm{{ID: "r", Name: "all", Rewrite: "{name}",
			Forms: []config.Form{{Kind: config.Bare}},
			Lookup: []config.Lookup{{Store: "LANTERN", Unreachable: config.Refuse}, {Store: config.LocalStore,
				Unreachable: config.Refuse}}}},
		Lanes: []*config.Lane{{ID: "l", Name: "gear", When: "always", Methods: []string{"pap"},
			TLS: config.LaneTLS{Minimum: "1.2", Binding: "optional", Prove: "user"}}},
	}
	for _, g := range groups {
		c.Passes = append(c.Passes, &config.Pass{ID: g, Name: "pass of " + g[len(g)-1:]})
		c.Lanes[0].Policies = append(c.Lanes[0].Policies, &config.Policy{ID: g, Name: g, Enabled: true,
			When: `group is "` + g + `"`, Outcome: config.Admit, Pass: c.Passes[len(c.Passes)-1].Name})
	}
	c.Normalise()
	p, problems := Compile(c)
	if p == nil {
		t.Fatalf("%v", problems)
	}
	return p
}

func TestAGroupCountsInTheStoreWhereItWasPicked(t *testing.T) {
	picked := []config.PickedGroup{{ID: "S-1-5-21-1", Name: "Team A"}}
	for _, c := range []struct {
		policy, store, group string
		picked               []config.PickedGroup
		admitted             bool
	}{
		{"Team A", "LANTERN", "Team A", picked, true},
		{"team a", "lantern", "TEAM A", picked, true},
		{"Team A", "local", "Team A", picked, false}, // self-made, of the same name
		{"Team A", "local", "Team A", nil, true},
		{"LANTERN/Team A", "LANTERN", "Team A", nil, true},
		{"LANTERN/Team A", "local", "Team A", nil, false},
		{"LANTERN/Team A", "local", "LANTERN/Team A", nil, false}, // called so on purpose
		{"LANTERN/Team A", "local", "LANTERN/Team A", picked, false},
		{"local/Team A", "local", "Team A", picked, true},
		{"local/Team A", "LANTERN", "Team A", picked, false},
		{"local/Team A", "LANTERN", "local/Team A", picked, false},
		{"Elsewhere/Team A", "local", "Elsewhere/Team A", nil, true}, // no store of ours, so all of it is a name
	} {
		f := facts.Facts{At: time.Now(), Service: facts.Network, Protocol: "radius", Client: "x", Sent: "ann",
			Method: "pap", Credential: reason.OK,
			Person: &facts.Person{Store: c.store, Name: "ann", State: reason.OK, Groups: []string{"Crew", c.group}}}
		p := twoStores(t, c.picked, c.policy)
		if d := p.Decide(&f); (d.Verdict == results.Admitted) != c.admitted {
			t.Errorf("%+v: %s %s", c, d.Verdict, d.Reason)
		}
		if trace := p.Trace(&f); (trace.Verdict == results.Admitted) != c.admitted ||
			trace.Policies[0].Fits != c.admitted {
			t.Errorf("%+v: the trace says %+v", c, trace.Policies)
		}
		if !slices.Equal(f.Person.Groups, []string{"Crew", c.group}) {
			t.Errorf("the facts were changed: %v", f.Person.Groups)
		}
	}
}

func TestBareNamesOfSeveralStoresAreAmbiguous(t *testing.T) {
	for _, c := range []struct {
		policy    string
		picked    []config.PickedGroup
		ambiguous bool
	}{{"Team A", nil, true}, {"Team A", []config.PickedGroup{{ID: "1", Name: "Team A"}}, false},
		{"local/Team A", nil, false}} {
		found := slices.ContainsFunc(twoStores(t, c.picked, c.policy).Analyse(Known{At: time.Now()}),
			func(f results.Finding) bool { return f.Code == results.GroupAmbiguous })
		if found != c.ambiguous {
			t.Errorf("%+v: ambiguous %v", c, found)
		}
	}
}
