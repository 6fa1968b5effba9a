package config

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

func valid() Config {
	c := Config{
		Clients: []*Client{{ID: "c1", Name: "np-switch-1", Enabled: true, Addresses: []string{"192.0.2.11"},
			Secret: "sealed", Tags: map[string]string{"site": "north-pier"}}},
		Directories: []*Directory{{ID: "d1", Name: "LANTERN", Servers: []string{"dc1"}, BindName: "svc",
			BindPassword: "sealed"}},
		Realms: []*Realm{{ID: "r1", Name: "shore", Forms: []Form{{Kind: Suffix, Value: "@Lanternferries.example"},
			{Kind: Bare}}, Lookup: []Lookup{{Store: "LANTERN"}, {Store: "local"}}}},
		Lanes: []*Lane{{ID: "l1", Name: "Wired", Methods: []string{"PAP"}, Realm: "shore",
			Policies: []*Policy{{ID: "p1", Name: "All", Enabled: true, Pass: "crew"}}}},
		Passes: []*Pass{{ID: "a1", Name: "crew", VLAN: "30"}},
	}
	c.Normalise()
	return c
}

func TestNormalise(t *testing.T) {
	c := Config{
		Clients: []*Client{{Name: " np-switch-1 ", Addresses: []string{" 192.0.2.77/24 ", "[2001:db8::1]",
			"192.0.2.0/24", "::ffff:192.0.2.9", ""}, Tags: map[string]string{" Site ": " north-pier "}}},
		Directories: []*Directory{{Servers: []string{"ldap://dc1.lanternferries.example/", "dc2.", "[2001:db8::2]:389",
			"dc2:389"}}},
		Realms: []*Realm{{Forms: []Form{{Suffix, " @LanternFerries.EXAMPLE"}, {Prefix, `lantern\`}, {Bare, "x"}},
			Lookup: []Lookup{{Store: " local "}}}},
		Lanes: []*Lane{{Methods: []string{" PAP", "pap"}, Policies: []*Policy{{Outcome: Refusal, Pass: "x"}}}},
	}
	c.Normalise()
	got := fmt.Sprintln(c.Clients[0].Name, c.Clients[0].Addresses, c.Clients[0].Tags,
		c.Clients[0].MessageAuthenticator, c.Directories[0].Servers, c.Directories[0].TLS,
		c.Directories[0].TimeoutMillis,
		c.Realms[0].Forms, c.Realms[0].Rewrite, c.Realms[0].Lookup, c.Lanes[0].Methods, c.Lanes[0].When+"|"+
			c.Lanes[0].Policies[0].Pass)
	want := "np-switch-1 [192.0.2.0/24 2001:db8::1 192.0.2.9] map[site:north-pier] require " +
		"[dc1.lanternferries.example:389 dc2:389 [2001:db8::2]:389] starttls 3000 " +
		"[@lanternferries.example LANTERN\\ bare] {name} [{local refuse}] [pap] always|\n"
	if got != want {
		t.Errorf("normalised to\n%swanted\n%s", got, want)
	}
	again := c.Copy()
	for i := range again.Clients {
		Own(again.Clients, i)
	}
	for i := range again.Directories {
		Own(again.Directories, i)
	}
	for i := range again.Lanes {
		lane := Own(again.Lanes, i)
		for j := range lane.Policies {
			Own(lane.Policies, j)
		}
	}
	again.Normalise()
	if d := Diff(&c, again); len(d) > 0 {
		t.Errorf("normalising twice changes %v", d)
	}
}

func TestParseServer(t *testing.T) {
	for _, c := range []struct {
		in   string
		mode TLSMode
		out  string
		then TLSMode
	}{
		{"dc1", LDAPS, "dc1:636", LDAPS}, {"dc1", StartTLS, "dc1:389", StartTLS}, {"ldaps://dc1", Plain, "dc1:636",
			LDAPS}, {"ldap://dc1", LDAPS, "dc1:389", StartTLS},
		{"ldap://dc1:10389/", Plain, "dc1:10389", Plain}, {"2001:db8::7", LDAPS, "[2001:db8::7]:636", LDAPS},
		{"dc1.", LDAPS, "dc1:636", LDAPS}, {"", LDAPS, "", LDAPS}, {"dc1:", LDAPS, "dc1:636", LDAPS},
	} {
		if out, mode := ParseServer(c.in, c.mode); out != c.out || mode != c.then {
			t.Errorf("%q with %s gives %s, %s", c.in, c.mode, out, mode)
		}
	}
}

func TestCheck(t *testing.T) {
	base := valid()
	if problems := base.Check(); len(problems) != 1 || !problems[0].Warning || !strings.Contains(problems[0].Message,
		"PAP is weak") {
		t.Fatalf("the valid configuration has %v", problems)
	}
	cases := []struct {
		name, field, says string
		change            func(*Config)
	}{
		{"address of another", "addresses[1]", `already belongs to client "np-switch-1"`, func(c *Config) {
			c.Clients = append(c.Clients, &Client{ID: "c2", Name: "other", Addresses: []string{"192.0.2.12",
				"192.0.2.11"}, Secret: "s"})
		}},
		{"no address", "addresses", "no address", func(c *Config) { c.Clients[0].Addresses = nil }},
		{"nonsense address", "addresses[0]", "neither an address", func(c *Config) {
			c.Clients[0].Addresses[0] = "switch"
		}},
		{"no secret", "secret", "no shared secret", func(c *Config) { c.Clients[0].Secret = "" }},
		{"endless previous secret", "previousUntil", "no end", func(c *Config) { c.Clients[0].Previous = "s" }},
		{"mode", "messageAuthenticator", "not a mode", func(c *Config) { c.Clients[0].MessageAuthenticator = "maybe" }},
		{"tag name", "tags", "characters", func(c *Config) { c.Clients[0].Tags["my tag"] = "x" }},
		{"tag called like a field", "tags", "name of a field", func(c *Config) { c.Clients[0].Tags["address"] = "x" }},
		{"same name", "name", "another client", func(c *Config) {
			c.Clients = append(c.Clients, &Client{ID: "c2", Name: "NP-switch-1", Addresses: []string{"192.0.2.12"},
				Secret: "s"})
		}},
		{"port for the mode", "servers[0]", "speaks plain LDAP or StartTLS", func(c *Config) {
			c.Directories[0].Servers[0] = "dc1:389"
		}},
		{"mode for the port", "servers[0]", "TLS from the first octet", func(c *Config) {
			c.Directories[0].TLS = StartTLS
		}},
		{"no server", "servers", "no server", func(c *Config) { c.Directories[0].Servers = nil }},
		{"bind without password", "bindPassword", "without a password", func(c *Config) {
			c.Directories[0].BindPassword = ""
		}},
		{"directory called local", "name", "reserved for", func(c *Config) {
			c.Directories[0].Name = "Local"
			c.Realms[0].Lookup = c.Realms[0].Lookup[1:]
		}},
		{"form of two realms", "forms[0]", "already belongs", func(c *Config) {
			c.Realms = append(c.Realms, &Realm{ID: "r2", Name: "ships", Forms: []Form{{Kind: Bare}}, Rewrite: "{name}",
				Lookup: []Lookup{{"local", Refuse}}})
		}},
		{"same name for everybody", "rewrite", "the same name", func(c *Config) { c.Realms[0].Rewrite = "guest" }},
		{"removed directory", "lookup[0]", `no directory "LANTERN"`, func(c *Config) { c.Directories = nil }},
		{"removed pass", "policies[0].pass", `no pass "crew"`, func(c *Config) { c.Passes = nil }},
		{"removed realm", "realm", `no realm "shore"`, func(c *Config) { c.Realms = nil }},
		{"no method", "methods", "no method", func(c *Config) { c.Lanes[0].Methods = nil }},
		{"unknown method", "methods[0]", "not a method", func(c *Config) {
			c.Lanes[0].Methods = []string{"telepathy"}
		}},
		{"delay", "rejectDelayMillis", "out of range", func(c *Config) { c.Lanes[0].RejectDelayMillis = 60000 }},
		{"table of a refusal", "policies[0].groups", "refuses", func(c *Config) {
			p := c.Lanes[0].Policies[0]
			p.Outcome, p.Pass, p.Groups = Refusal, "", []GroupRow{{"x", "crew"}}
		}},
		{"VLAN 5000", "vlan", "VLAN 5000 does not exist", func(c *Config) { c.Passes[0].VLAN = "5000" }},
		{"VLAN 0", "vlan", "VLAN 0 does not exist", func(c *Config) { c.Passes[0].VLAN = "0" }},
		{"negative time-out", "sessionTimeout", "out of range", func(c *Config) { c.Passes[0].SessionTimeout = -1 }},
	}
	for _, tc := range cases {
		c := valid()
		tc.change(&c)
		found := false
		for _, p := range c.Check() {
			found = found || !p.Warning && p.Field == tc.field && strings.Contains(p.Message, tc.says) && p.Remedy != ""
		}
		if !found {
			t.Errorf("%s: wanted %s to say %q, got %v", tc.name, tc.field, tc.says, c.Check())
		}
	}
}

func TestCheckWarns(t *testing.T) {
	c := valid()
	c.Clients[0].MessageAuthenticator = Off
	c.Clients[0].Addresses = []string{"0.0.0.0/0"}
	c.Directories[0].TLS, c.Directories[0].Servers[0], c.Directories[0].BindName = Plain, "dc1:389", ""
	c.Passes[0].SessionTimeout = 30
	problems := c.Check()
	if len(problems) != 6 {
		t.Errorf("got %v", problems)
	}
	for _, p := range problems {
		if !p.Warning {
			t.Errorf("%v is no warning", p)
		}
	}
}

func TestDiff(t *testing.T) {
	from, to := valid(), valid()
	to.Clients[0].Addresses = append(to.Clients[0].Addresses, "192.0.2.12")
	to.Clients[0].Secret = "other"
	to.Clients[0].PreviousUntil = time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	to.Passes = append(to.Passes, &Pass{ID: "a2", Name: "ticketing", VLAN: "20"})
	to.Directories = nil
	to.Lanes[0].Policies[0].When = "group is Ticketing"
	got := ""
	for _, c := range Diff(&from, &to) {
		got += fmt.Sprintln(c.What, c.Kind, c.Object, c.Lines)
	}
	for _, want := range []string{"changed client np-switch-1 [addresses 192.0.2.11 -> 192.0.2.11, 192.0.2.12 secret " +
		"changed previous until 2026-12-01 00:00 UTC]", "removed directory LANTERN",
		"added pass ticketing [name ticketing VLAN 20]", `policy "All" changed: when always -> group is Ticketing`} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is missing in\n%s", want, got)
		}
	}
	if strings.Contains(got, "sealed") || strings.Contains(got, "other") {
		t.Errorf("a secret is shown: %s", got)
	}
	if d := Diff(&from, &from); len(d) != 0 {
		t.Errorf("the same differs: %v", d)
	}
}

func TestDiffNamesTheFewestMoves(t *testing.T) {
	from, to := Config{}, Config{}
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		from.Lanes = append(from.Lanes, &Lane{ID: name, Name: name})
	}
	for _, i := range []int{4, 0, 1, 2, 3} {
		to.Lanes = append(to.Lanes, from.Lanes[i])
	}
	d := Diff(&from, &to)
	if len(d) != 1 || d[0].Object != "e" || d[0].What != "moved" || d[0].Lines[0] != "now first" {
		t.Errorf("got %v", d)
	}
}

func TestRenameFollows(t *testing.T) {
	c := valid()
	c.Lanes[0].Policies = append(c.Lanes[0].Policies, &Policy{Name: "t", Groups: []GroupRow{{"x", "Crew"}}})
	c.Rename("pass", "crew", "deck")
	c.Rename("realm", "shore", "land")
	c.Rename("directory", "LANTERN", "DOMAIN")
	if c.Lanes[0].Policies[0].Pass != "deck" || c.Lanes[0].Policies[1].Groups[0].Pass != "deck" ||
		c.Lanes[0].Realm != "land" || c.Realms[0].Lookup[0].Store != "DOMAIN" {
		t.Errorf("got %+v", c)
	}
}

func FuzzParsePrefix(f *testing.F) {
	for _, text := range []string{"192.0.2.0/24", "2001:db8::/32", "::ffff:192.0.2.1/120", "x", "[::1]"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ParsePrefix(text)
		if err != nil {
			return
		}
		if again, err := ParsePrefix(FormatPrefix(p)); err != nil || again != p {
			t.Errorf("%q is %v, which is read as %v, %v", text, p, again, err)
		}
	})
}

func TestASecretMadeTwiceKeepsThatOfTheDevice(t *testing.T) {
	until := time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	running := &Client{Secret: "r1", TACACSSecret: "t1"}
	c := *running
	for _, next := range []Secret{"2", "3"} {
		c.Rotate("r"+next, running, until)
		c.RotateTACACS("t"+next, running, until)
	}
	if c.Secret != "r3" || c.Previous != "r1" || c.TACACSSecret != "t3" || c.TACACSPrevious != "t1" ||
		c.PreviousUntil != until || c.TACACSPreviousUntil != until {
		t.Errorf("%+v", c)
	}
	c.RotateTACACS("t4", running, time.Time{})
	c.Rotate("r4", nil, time.Time{})
	if c.Previous != "" || c.TACACSPrevious != "" || !c.PreviousUntil.IsZero() {
		t.Errorf("the previous secret is kept though nobody asked for it: %+v", c)
	}
}
