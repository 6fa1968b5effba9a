package decide

import (
	"fmt"
	"net/netip"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
)

// small is a configuration with one lane whose policies can be changed.
func small(change func(*config.Config)) *Plan {
	c := &config.Config{
		Clients: []*config.Client{{ID: "c1", Name: "np-switch-1", Enabled: true, Addresses: []string{"192.0.2.11"},
			Secret: "x", MessageAuthenticator: "require", Tags: map[string]string{"site": "north-pier"}}},
		Directories: []*config.Directory{},
		Realms: []*config.Realm{{ID: "r1", Name: "here", Forms: []config.Form{{Kind: config.Bare}},
			Rewrite: "{name}", Lookup: []config.Lookup{{Store: config.LocalStore, Unreachable: config.Refuse}}}},
		Passes: []*config.Pass{{ID: "p1", Name: "ticketing", VLAN: "20"}, {ID: "p2", Name: "officers", VLAN: "30"}},
		Lanes: []*config.Lane{{ID: "l1", Name: "Wired", When: "always", Methods: []string{"pap"},
			Policies: []*config.Policy{
				{Name: "Ticketing", Enabled: true, When: `group is Ticketing and client.site is north-pier`,
					Outcome: config.Admit, Pass: "ticketing"},
				{Name: "Crew", Enabled: true, When: `group is Crew`, Outcome: config.Admit, Pass: "officers"}}}},
	}
	if change != nil {
		change(c)
	}
	c.Normalise()
	plan, problems := Compile(c)
	if plan == nil {
		panic(fmt.Sprint(problems))
	}
	return plan
}

func attemptOf(name string, groups ...string) *facts.Facts {
	return &facts.Facts{Protocol: "radius", Address: netip.MustParseAddr("192.0.2.11"), Sent: name, Method: "pap",
		Credential: "ok", Lookups: []facts.Lookup{{Store: config.LocalStore, Outcome: "ok"}},
		Person: &facts.Person{Store: config.LocalStore, ID: name, Name: name, State: "ok", Groups: groups}}
}

func TestRehearsal(t *testing.T) {
	before := small(nil)
	recorded := []*facts.Facts{attemptOf("s.lodge", "Ticketing"), attemptOf("s.lodge", "Ticketing"),
		attemptOf("k.nance", "Crew"), attemptOf("t.marchetti"), attemptOf("both", "Ticketing", "Crew")}
	for name, c := range map[string]struct {
		change func(*config.Config)
		want   string
	}{
		"nothing":                  {nil, ""},
		"another name of a policy": {func(c *config.Config) { c.Lanes[0].Policies[0].Name = "Tickets" }, ""},
		"a VLAN": {func(c *config.Config) { c.Passes[0].VLAN = "21" },
			"admitted 20 -> admitted 21: 3 of 2 people"},
		"another attribute": {func(c *config.Config) { c.Passes[1].SessionTimeout = 60 },
			"admitted 30 -> admitted 30: 1 of 1 people"},
		"a policy is switched off": {func(c *config.Config) { c.Lanes[0].Policies[0].Enabled = false },
			"admitted 20 -> refused : 2 of 1 people; admitted 20 -> admitted 30: 1 of 1 people"},
		"the order": {func(c *config.Config) { p := c.Lanes[0].Policies; p[0], p[1] = p[1], p[0] },
			"admitted 20 -> admitted 30: 1 of 1 people"},
		"a tag of the client": {func(c *config.Config) {
			c.Clients[0].Tags = map[string]string{"site": "heron"}
		}, "admitted 20 -> refused : 2 of 1 people; admitted 20 -> admitted 30: 1 of 1 people"},
		"everybody": {func(c *config.Config) { c.Lanes[0].Policies[1].When = "always" },
			"refused  -> admitted 30: 1 of 1 people"},
		"the method is not allowed": {func(c *config.Config) { c.Lanes[0].Methods = []string{"chap"} },
			"admitted 20 -> refused : 3 of 2 people; admitted 30 -> refused : 1 of 1 people; refused  -> refused : 1 " +
				"of 1 people"},
	} {
		r := NewRehearsal(before, small(c.change))
		for i, f := range recorded {
			r.Add(fmt.Sprint(i), f)
		}
		got := ""
		for _, d := range r.Differences() {
			if got != "" {
				got += "; "
			}
			got += fmt.Sprintf("%s %s -> %s %s: %d of %d people", d.Before.Verdict, d.Before.VLAN, d.After.Verdict,
				d.After.VLAN, d.Attempts, d.People)
			if len(d.Examples) != d.People {
				t.Errorf("%s: %d examples of %d people", name, len(d.Examples), d.People)
			}
		}
		if got != c.want || r.Total() != len(recorded) {
			t.Errorf("%s: %q, wanted %q", name, got, c.want)
		}
	}
}

func BenchmarkRehearsal(b *testing.B) {
	r := NewRehearsal(small(nil), small(func(c *config.Config) { c.Passes[0].VLAN = "21" }))
	f := attemptOf("s.lodge", "Ticketing")
	for b.Loop() {
		r.Add("x", f)
	}
}
