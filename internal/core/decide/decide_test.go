package decide

import (
	"net/netip"
	"strings"
	"testing"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

func harbour() config.Config {
	admit := func(name, when, pass string) *config.Policy {
		return &config.Policy{ID: name, Name: name, Enabled: true, When: when, Outcome: config.Admit, Pass: pass}
	}
	off := admit("Switched off", "always", "crew")
	off.Enabled = false
	c := config.Config{
		Clients: []*config.Client{
			{ID: "1", Name: "pier", Addresses: []string{"192.0.2.0/24", "2001:db8::/32"}, Secret: "s",
				Tags: map[string]string{"site": "north-pier"}},
			{ID: "2", Name: "np-switch-1", Addresses: []string{"192.0.2.11", "2001:db8:7::1"}, Secret: "s",
				Tags: map[string]string{"site": "north-pier"}},
		},
		Directories: []*config.Directory{{ID: "d", Name: "LANTERN", Servers: []string{"dc1"}, BindName: "svc",
			BindPassword: "s"}},
		Realms: []*config.Realm{
			{ID: "r1", Name: "shore", Forms: []config.Form{{Kind: config.Suffix, Value: "lanternferries.example"},
				{Kind: config.Prefix, Value: "LANTERN"}, {Kind: config.Bare}},
				Lookup: []config.Lookup{{Store: "LANTERN", Unreachable: config.Next}, {Store: "local"}}},
			{ID: "r2", Name: "ships", Forms: []config.Form{{Kind: config.Suffix, Value: "ships.example"}},
				Rewrite: "ship-{name}", Lookup: []config.Lookup{{Store: "local"}}},
		},
		Lanes: []*config.Lane{
			{ID: "l1", Name: "Device logins", When: "service is device-login", Methods: []string{"pap"},
				Realm: "shore"},
			{ID: "l2", Name: "Wired", When: "port.type is Ethernet", Methods: []string{"pap"},
				Policies: []*config.Policy{
					off, admit("Officers", `group is "Deck Officers" and client.site is north-pier`, "crew"),
					{ID: "t", Name: "By department", Enabled: true, Outcome: config.Admit,
						Groups: []config.GroupRow{{Group: "Ticketing", Pass: "ticketing"}, {Group: "Harbour Office",
							Pass: "crew"}}},
					{ID: "n", Name: "Contractors", Enabled: true, When: "group is Contractors", Outcome: config.Refusal,
						Message: "ashore only"},
				}},
		},
		Passes: []*config.Pass{{ID: "a", Name: "crew", VLAN: "30"}, {ID: "b", Name: "ticketing", VLAN: "20",
			SessionTimeout: 28800, Role: "ticketing"}},
	}
	c.Normalise()
	return c
}

func compile(t testing.TB, c config.Config) *Plan {
	t.Helper()
	plan, problems := Compile(&c)
	if plan == nil {
		t.Fatalf("does not compile: %v", problems)
	}
	return plan
}

func attempt(change func(*facts.Facts)) *facts.Facts {
	f := &facts.Facts{Protocol: "radius", Service: facts.Network, Client: "np-switch-1",
		ClientTags: map[string]string{"site": "north-pier"}, PortType: "Ethernet", Sent: "s.lodge", Method: "pap",
		Lookups: []facts.Lookup{{Store: "LANTERN", Outcome: reason.OK}}, Credential: reason.OK,
		Person: &facts.Person{Store: "LANTERN", ID: "cn=x", Name: "s.lodge", Display: "Sunniva Lodge",
			State: reason.OK, Groups: []string{"Ticketing", "Harbour Office"}}}
	if change != nil {
		change(f)
	}
	return f
}

func TestDecide(t *testing.T) {
	plan := compile(t, harbour())
	nobody := func(lookups ...facts.Lookup) func(*facts.Facts) {
		return func(f *facts.Facts) { f.Person, f.Lookups, f.Credential = nil, lookups, "" }
	}
	cases := []struct {
		name    string
		change  func(*facts.Facts)
		reason  reason.Code
		station string
		pass    string
	}{
		{"first row of the table", nil, reason.OK, "pass", "ticketing"},
		{"second row", func(f *facts.Facts) { f.Person.Groups = []string{"harbour office"} }, reason.OK, "pass",
			"crew"},
		{"a policy above the table", func(f *facts.Facts) { f.Person.Groups = []string{"Ticketing", "Deck Officers"} },
			reason.OK, "pass", "crew"},
		{"a condition that fits only in part", func(f *facts.Facts) {
			f.Person.Groups, f.ClientTags = []string{"Deck Officers"}, nil
		}, reason.PolicyNone, "policy", ""},
		{"in no group", func(f *facts.Facts) { f.Person.Groups = nil }, reason.PolicyNone, "policy", ""},
		{"a policy that refuses", func(f *facts.Facts) { f.Person.Groups = []string{"Contractors"} },
			reason.PolicyRefused, "policy", ""},
		{"no name", func(f *facts.Facts) { f.Sent = "" }, reason.NameMissing, "name", ""},
		{"a name of noise", func(f *facts.Facts) { f.Sent = "\xff\xfe" }, reason.NameInvalid, "name", ""},
		{"a name with a zero", func(f *facts.Facts) { f.Sent = "a\x00b" }, reason.NameInvalid, "name", ""},
		{"no lane", func(f *facts.Facts) { f.PortType = "Virtual" }, reason.LaneNone, "lane", ""},
		{"no credential", func(f *facts.Facts) { f.Method = "" }, reason.MethodMissing, "lane", ""},
		{"a method that is not allowed", func(f *facts.Facts) { f.Method = "eap" }, reason.MethodNotAllowed, "lane",
			""},
		{"no realm", func(f *facts.Facts) { f.Sent = "s.lodge@elsewhere.example" }, reason.RealmNone, "name", ""},
		{"another realm than the lane's", func(f *facts.Facts) {
			f.Service, f.Sent = facts.DeviceLogin, "s.lodge@ships.example"
		}, reason.RealmOther, "name", ""},
		{"unknown", nobody(facts.Lookup{Store: "LANTERN", Outcome: reason.PersonUnknown}, facts.Lookup{Store: "local",
			Outcome: reason.PersonUnknown}), reason.PersonUnknown, "directory", ""},
		{"unreachable, then unknown", nobody(facts.Lookup{Store: "LANTERN", Outcome: reason.DirectoryUnreachable},
			facts.Lookup{Store: "local", Outcome: reason.PersonUnknown}), reason.DirectoryUnreachable, "directory", ""},
		{"ambiguous", nobody(facts.Lookup{Store: "LANTERN", Outcome: reason.PersonAmbiguous}), reason.PersonAmbiguous,
			"directory", ""},
		{"disabled with the right password", func(f *facts.Facts) { f.Person.State = reason.PersonDisabled },
			reason.PersonDisabled, "directory", ""},
		{"wrong password", func(f *facts.Facts) { f.Credential = reason.PasswordWrong }, reason.PasswordWrong,
			"credential", ""},
		{"password never checked", func(f *facts.Facts) { f.Credential = "" }, reason.PasswordWrong, "credential", ""},
		{"empty password, nobody looked up", func(f *facts.Facts) {
			f.Person, f.Lookups, f.Credential = nil, nil,
				reason.PasswordEmpty
		}, reason.PasswordEmpty, "credential", ""},
	}
	for _, c := range cases {
		f := attempt(c.change)
		d := plan.Decide(f)
		if d.Reason != c.reason || (d.Verdict == results.Admitted) != (c.reason == reason.OK) {
			t.Errorf("%s: %s by %s, wanted %s", c.name, d.Verdict, d.Reason, c.reason)
		}
		if c.pass != "" && (d.Pass == nil || d.Pass.Name != c.pass) {
			t.Errorf("%s: pass %+v, wanted %s", c.name, d.Pass, c.pass)
		}
		trace := plan.Trace(f)
		decided := 0
		for _, s := range trace.Stations {
			if s.State == results.Decided {
				decided++
				if s.Key != c.station {
					t.Errorf("%s: decided at %s, wanted %s", c.name, s.Key, c.station)
				}
				if d.Verdict == results.Refused && (s.Wanted == "" && s.Key != "lane") {
					t.Errorf("%s: station %s says wanted %q, found %q", c.name, s.Key, s.Wanted, s.Found)
				}
			}
		}
		if decided != 1 || len(trace.Stations) != 8 || trace.Reason != d.Reason {
			t.Errorf("%s: the trace has %d deciding stations of %d, reason %s", c.name, decided, len(trace.Stations),
				trace.Reason)
		}
		if d.Verdict == results.Refused && (trace.Sentence == "" || trace.Remedy == "" ||
			strings.Contains(trace.Sentence+trace.Remedy, "{")) {
			t.Errorf("%s: says %q, remedy %q", c.name, trace.Sentence, trace.Remedy)
		}
	}
}

func TestNames(t *testing.T) {
	plan := compile(t, harbour())
	for sent, want := range map[string]string{
		"s.lodge": "s.lodge", "s.lodge@LanternFerries.example": "s.lodge", `lantern\s.lodge`: "s.lodge",
		"heron@ships.example": "ship-heron", "a@b@lanternferries.example": "a@b",
	} {
		if _, name, why := plan.Name(plan.Lanes[1], sent); why != reason.OK || name != want {
			t.Errorf("%s becomes %q, %s; wanted %s", sent, name, why, want)
		}
	}
}

func TestClientByLongestPrefix(t *testing.T) {
	plan := compile(t, harbour())
	for addr, want := range map[string]string{"192.0.2.11": "np-switch-1", "192.0.2.12": "pier",
		"::ffff:192.0.2.11": "np-switch-1", "2001:db8:7::1": "np-switch-1", "2001:db8:7::2": "pier",
		"198.51.100.1": ""} {
		c := plan.Client(netip.MustParseAddr(addr))
		if got := ""; c != nil && c.Name != want || c == nil && want != got {
			t.Errorf("%s belongs to %+v, wanted %q", addr, c, want)
		}
	}
}

func TestTraceKeepsEveryComparison(t *testing.T) {
	trace := compile(t, harbour()).Trace(attempt(func(f *facts.Facts) { f.Person.Groups = []string{"Engine Room"} }))
	if len(trace.Lanes) != 2 || trace.Lanes[0].Fits || !trace.Lanes[1].Fits {
		t.Errorf("lanes %+v", trace.Lanes)
	}
	if len(trace.Policies) != 4 || trace.Policies[0].Skipped == "" || len(trace.Policies[1].Compared) != 2 ||
		trace.Policies[1].Compared[0].Found != "Engine Room" || !trace.Policies[1].Compared[1].Fits {
		t.Errorf("policies %+v", trace.Policies)
	}
	if !strings.Contains(trace.Remedy, "none of the groups") {
		t.Errorf("remedy %q", trace.Remedy)
	}
	admitted := compile(t, harbour()).Trace(attempt(nil))
	names := ""
	for _, a := range admitted.Reply {
		names += a.Name + "=" + a.Value + " "
	}
	if names != "Tunnel-Type=VLAN Tunnel-Medium-Type=IEEE-802 Tunnel-Private-Group-ID=20 Session-Timeout=28800 "+
		"Filter-Id=ticketing " || admitted.VLAN != "20" {
		t.Errorf("reply %s", names)
	}
}

func TestCompileFindsFaults(t *testing.T) {
	cases := []struct {
		name, field, says string
		change            func(*config.Config)
	}{
		{"unknown field", "policies[1].when", "Did you mean group?", func(c *config.Config) {
			c.Lanes[1].Policies[1].When = "grup is x"
		}},
		{"person in a lane", "when", "not known yet", func(c *config.Config) { c.Lanes[0].When = "group is x" }},
		{"unknown attribute", "attributes[0].name", "no attribute", func(c *config.Config) {
			c.Passes[0].Attributes = []config.Attribute{{Name: "Tunnel-Colour", Value: "x"}}
		}},
		{"request attribute", "attributes[0].name", "is not allowed", func(c *config.Config) {
			c.Passes[0].Attributes = []config.Attribute{{Name: "User-Password", Value: "x"}}
		}},
		{"second VLAN", "attributes[0].name", "made from the VLAN", func(c *config.Config) {
			c.Passes[0].Attributes = []config.Attribute{{Name: "Tunnel-Type", Value: "VLAN"}}
		}},
		{"value", "attributes[0].value", "takes a number", func(c *config.Config) {
			c.Passes[0].Attributes = []config.Attribute{{Name: "Idle-Timeout", Value: "soon"}}
		}},
		{"removed pass", "policies[2].groups[0].pass", "no pass", func(c *config.Config) { c.Passes = c.Passes[:1] }},
		{"reply too long", "attributes", "at most", func(c *config.Config) {
			for range 20 {
				c.Passes[0].Attributes = append(c.Passes[0].Attributes, config.Attribute{Name: "Reply-Message",
					Value: strings.Repeat("x", 250)})
			}
		}},
	}
	for _, tc := range cases {
		c := harbour()
		tc.change(&c)
		plan, problems := Compile(&c)
		found := false
		for _, p := range problems {
			found = found || !p.Warning && p.Field == tc.field && strings.Contains(p.Message+p.Remedy, tc.says)
		}
		if plan != nil || !found {
			t.Errorf("%s: plan %v, problems %v", tc.name, plan != nil, problems)
		}
	}
}

func TestCompileWarns(t *testing.T) {
	c := harbour()
	c.Lanes[0].When = "always"
	c.Lanes[1].Policies[1].When = "client.deck is upper"
	c.Lanes[1].Policies[0].Enabled = true
	plan, problems := Compile(&c)
	said := ""
	for _, p := range problems {
		said += p.Field + ": " + p.Message + "\n"
	}
	if want := `no client carries the tag "deck"`; !strings.Contains(said, want) {
		t.Errorf("%q is missing in\n%s", want, said)
	}
	if plan == nil {
		t.Error("warnings stop the compilation")
	}
}

func TestDecideDoesNotAllocate(t *testing.T) {
	plan, f := compile(t, harbour()), attempt(nil)
	if n := testing.AllocsPerRun(100, func() { plan.Decide(f) }); n > 0 {
		t.Errorf("%v allocations", n)
	}
}

func BenchmarkDecide(b *testing.B) {
	plan, f := compile(b, harbour()), attempt(nil)
	b.ReportAllocs()
	for b.Loop() {
		if plan.Decide(f).Verdict != results.Admitted {
			b.Fatal("refused")
		}
	}
}
