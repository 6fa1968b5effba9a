package config

import (
	"slices"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/calendar"
)

// sound is a configuration with one of each thing that policies are made with, and nothing wrong.
func sound() Config {
	c := Config{
		Clients: []*Client{{ID: "c", Name: "pier", Enabled: true, Addresses: []string{"192.0.2.1"}, Secret: "s"}},
		Realms:  []*Realm{{ID: "r", Name: "here", Forms: []Form{{Kind: Bare}}, Lookup: []Lookup{{Store: LocalStore}}}},
		Passes: []*Pass{{ID: "p1", Name: "crew", VLAN: "30", SessionTimeout: 3600}, {ID: "p2", Name: "bridge",
			Extends: "crew", Pool: "vpn"}},
		Calendars: []*Calendar{{ID: "k", Name: "hours", Zone: "UTC", Spans: []calendar.Span{{Days: []string{"mon"},
			From: "08:00", To: "18:00"}}}},
		Pools:   []*Pool{{ID: "a", Name: "vpn", Ranges: []string{"192.0.2.64/26", "2001:db8::/120"}}},
		Remotes: []*Remote{{ID: "f", Name: "far", Servers: []RemoteServer{{Address: "192.0.2.80"}}, Secret: "s"}},
		Vendors: []*Vendor{{ID: "v", Name: "Harbour", Number: 32473,
			Attributes: []VendorAttribute{{Number: 1, Name: "Harbour-Role", Type: "text"},
				{Number: 2, Name: "Harbour-Down", Type: "integer", Means: RateDown, Unit: 1},
				{Number: 3, Name: "Harbour-Level", Type: "integer", Values: []NamedValue{{1, "guest"}}}}}},
		Overrides: []*Override{{ID: "o", Name: "Ines", Person: "i.solvang", Store: LocalStore, Lane: "Wired",
			Pass: "bridge"}},
		Expectations: []*Expectation{{ID: "e", Name: "Crew", Sent: "k.nance", Client: "pier", Method: "pap",
			Admitted: true, Pass: "crew"}},
		Lanes: []*Lane{{ID: "l", Name: "Wired", Methods: []string{"pap"},
			Policies: []*Policy{{ID: "q", Name: "Crew", Enabled: true, Outcome: Admit, Pass: "crew"}}},
			{ID: "m", Name: "Guests", Forward: []string{"far"}}},
	}
	c.Normalise()
	return c
}

func TestFaultsOfWhatPoliciesAreMadeWith(t *testing.T) {
	c := sound()
	for _, p := range c.Check() {
		if !p.Warning {
			t.Errorf("nothing is wrong, but: %v", p)
		}
	}
	day := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	for _, tc := range []struct {
		change      func(*Config)
		kind, field string
		says        string
		warning     bool
	}{
		{func(c *Config) { c.Passes[0].Extends = "bridge" }, "pass", "extends",
			"refers to itself: crew -> bridge -> crew", false},
		{func(c *Config) { c.Passes[1].Extends = "none" }, "pass", "extends", "there is no pass", false},
		{func(c *Config) { c.Passes[0].IdleTimeout = -1 }, "pass", "idleTimeout", "out of range", false},
		{func(c *Config) { c.Passes[0].AtTimeout = "sing" }, "pass", "atTimeout", "is not an action at the time-out",
			false},
		{func(c *Config) {
			c.Passes[0].SessionTimeout, c.Passes[0].AtTimeout, c.Passes[1].Pool = 0, SignInAgain, ""
		}, "pass", "atTimeout", "signing in again needs", false},
		{func(c *Config) { c.Passes[0].AccessRules = []string{"permit ip from any to any"} }, "pass", "accessRules[0]",
			"6 words", false},
		{func(c *Config) { c.Passes[0].AccessRules = []string{"allow in ip from any to any"} }, "pass",
			"accessRules[0]", "permit or deny", false},
		{func(c *Config) { c.Passes[0].AccessRules = []string{"deny up ip from any to any"} }, "pass",
			"accessRules[0]", "direction", false},
		{func(c *Config) { c.Passes[0].AccessRules = []string{"deny in ip out any to any x"} }, "pass",
			"accessRules[0]", "lacks from or to", false},
		{func(c *Config) { c.Passes[0].RateUp = 100 }, "pass", "rateUp", "no vendor attribute is set up for this",
			true},
		{func(c *Config) { c.Passes[0].RateDown = -100 }, "pass", "rateDown", "out of range", false},
		{func(c *Config) { c.Passes[1].Address = "192.0.2.9" }, "pass", "pool", "as well as a pool", false},
		{func(c *Config) { c.Passes[1].Pool = "none" }, "pass", "pool", "there is no pool", false},
		{func(c *Config) { c.Passes[0].SessionTimeout = 0 }, "pass", "pool", "a session that ends", false},
		{func(c *Config) { c.Pools[0].Ranges = []string{"192.0.2.66/32"} }, "pass", "pool", "holds 1 addresses only",
			true},
		{func(c *Config) { c.Pools[0].Ranges = nil }, "pool", "ranges", "no addresses", false},
		{func(c *Config) { c.Pools[0].Ranges = []string{"10.0.0.0/8"} }, "pool", "ranges[0]", "more than 65536", false},
		{func(c *Config) { c.Pools[0].Ranges = []string{"2001:db8::-2001:db9::"} }, "pool", "ranges[0]",
			"more than 65536", false},
		{func(c *Config) { c.Pools[0].Ranges = []string{"192.0.2.9-192.0.3"} }, "pool", "ranges[0]",
			"not two addresses", false},
		{func(c *Config) { c.Pools[0].Ranges = []string{"192.0.2.9-2001:db8::"} }, "pool", "ranges[0]",
			"from a lower to a higher", false},
		{func(c *Config) {
			c.Pools = append(c.Pools, &Pool{Name: "b", Ranges: []string{"192.0.2.100-192.0.2.200"}})
		}, "pool", "ranges[0]", `overlaps with addresses of pool "vpn"`, false},
		{func(c *Config) { c.Remotes[0].Servers[0].Address = "far:1812" }, "remote", "servers[0].address",
			"is not an address with a port",
			false},
		{func(c *Config) { c.Remotes[0].Secret = "" }, "remote", "secret", "no shared secret", false},
		{func(c *Config) { c.Remotes[0].Tries = 6 }, "remote", "tries", "out of range", false},
		{func(c *Config) { c.Remotes[0].TimeoutMillis = 1 }, "remote", "timeoutMillis", "out of range", false},
		{func(c *Config) { c.Remotes[0].Unsigned = true }, "remote", "unsigned", "can forge them", true},
		{func(c *Config) { c.Lanes[1].Forward = []string{"near"} }, "lane", "forward[0]", "there is no remote server",
			false},
		{func(c *Config) { c.Lanes[0].Forward = []string{"far"} }, "lane", "policies", "its policies are not used",
			true},
		{func(c *Config) { c.Lanes[1].Forward = nil }, "lane", "methods", "no method is allowed", false},
		{func(c *Config) { c.Lanes[0].Policies[0].From, c.Lanes[0].Policies[0].Until = day, day }, "lane",
			"policies[0].until", "ends before it begins", false},
		{func(c *Config) { c.Lanes[0].Policies[0].Owner = strings.Repeat("x", 200) }, "lane", "policies[0].owner",
			"too long", false},
		{func(c *Config) { c.Calendars[0].Zone = "Pier" }, "calendar", "zone", "is not a time zone", false},
		{func(c *Config) { c.Vendors[0].Number = 0 }, "vendor", "number", "is not the number of a vendor", false},
		{func(c *Config) { c.Vendors[0].Number = 311 }, "vendor", "number", "used by this server itself", false},
		{func(c *Config) {
			c.Vendors = append(c.Vendors, &Vendor{Name: "Twin", Number: 32473, TypeOctets: 1, LengthOctets: 1})
		}, "vendor", "number", `is the number of "Harbour" already`, false},
		{func(c *Config) { c.Vendors[0].TypeOctets = 3 }, "vendor", "typeOctets", "types of 3 octets", false},
		{func(c *Config) { c.Vendors[0].Attributes[0].Number = 256 }, "vendor", "attributes[0].number",
			"does not fit into a type of 1 octets", false},
		{func(c *Config) { c.Vendors[0].Attributes[1].Number = 1 }, "vendor", "attributes[1].number",
			"is the number of Harbour-Role already", false},
		{func(c *Config) { c.Vendors[0].Attributes[0].Name = "No good" }, "vendor", "attributes[0].name",
			"is not a name", false},
		{func(c *Config) { c.Vendors[0].Attributes[1].Name = "harbour-role" }, "vendor", "attributes[1].name",
			`is an attribute of "Harbour" already`, false},
		{func(c *Config) { c.Vendors[0].Attributes[0].Type = "string" }, "vendor", "attributes[0].type",
			"is not a type", false},
		{func(c *Config) { c.Vendors[0].Attributes[0].Values = []NamedValue{{1, "x"}} }, "vendor",
			"attributes[0].values", "only integers", false},
		{func(c *Config) { c.Vendors[0].Attributes[0].Means = RateUp }, "vendor", "attributes[0].means",
			"a rate is a number", false},
		{func(c *Config) { c.Vendors[0].Attributes[1].Means = "colour" }, "vendor", "attributes[1].means",
			"is not a meaning", false},
		{func(c *Config) { c.Vendors[0].Attributes[1].Unit = -1 }, "vendor", "attributes[1].unit", "is not a unit",
			false},
		{func(c *Config) { c.Overrides[0].Person = "" }, "override", "person", "no person", false},
		{func(c *Config) { c.Overrides[0].Store = "LANTERN" }, "override", "store", "there is no directory", false},
		{func(c *Config) { c.Overrides[0].Lane = "Air" }, "override", "lane", "there is no lane", false},
		{func(c *Config) { c.Overrides[0].Pass = "" }, "override", "pass", "admits without a pass", false},
		{func(c *Config) {
			c.Overrides = append(c.Overrides, &Override{Name: "Again", Person: "I.SOLVANG", Store: "Local",
				Lane: "wired", Pass: "crew"})
		}, "override", "person", `override "Ines" is for the same person`, false},
		{func(c *Config) { c.Expectations[0].Client = "gone" }, "expectation", "client", "there is no client", false},
		{func(c *Config) { c.Expectations[0].Sent = "" }, "expectation", "sent", "no name", false},
		{func(c *Config) { c.Expectations[0].Method = "smoke" }, "expectation", "method", "is not a method", false},
		{func(c *Config) { c.Expectations[0].Reason = "policy.none" }, "expectation", "reason", "has no reason",
			false},
		{func(c *Config) { c.Expectations[0].Admitted = false }, "expectation", "pass", "grants no pass and no VLAN",
			false},
		{func(c *Config) { c.Expectations[0].Pass = "none" }, "expectation", "pass", "there is no pass", false},
	} {
		c := sound()
		tc.change(&c)
		if !slices.ContainsFunc(c.Check(), func(p Problem) bool {
			return p.Kind == tc.kind && p.Field == tc.field && strings.Contains(p.Message, tc.says) &&
				p.Warning == tc.warning && p.Remedy != ""
		}) {
			t.Errorf("%s %s: %q is missing in %v", tc.kind, tc.field, tc.says, c.Check())
		}
	}
}

func TestPassesThatExtend(t *testing.T) {
	c := sound()
	c.Passes = append(c.Passes, &Pass{Name: "a", VLAN: "1", SessionTimeout: 60, AtTimeout: SignInAgain, Role: "r",
		Address: "192.0.2.1", AccessRules: []string{"x"}, Attributes: []Attribute{{"Class", "one"},
			{"Idle-Timeout", "5"}}},
		&Pass{Name: "b", Extends: "a", VLAN: "2", Attributes: []Attribute{{"class", "two"}, {"Class", "three"}}},
		&Pass{Name: "c", Extends: "B", SessionTimeout: 90, Pool: "vpn"})
	for name, want := range map[string]string{"b": "2 60 sign-in-again r 192.0.2.1  Idle-Timeout=5 class=two " +
		"Class=three", "c": "2 90  r  vpn Idle-Timeout=5 class=two Class=three"} {
		p, _ := Find(c.Passes, name)
		got, err := c.Resolve(p)
		if err != nil {
			t.Fatal(err)
		}
		text := strings.Join([]string{got.VLAN, show(got.SessionTimeout), string(got.AtTimeout), got.Role, got.Address,
			got.Pool, join(got.Attributes, func(a Attribute) string { return a.Name + "=" + a.Value })}, " ")
		if text = strings.ReplaceAll(text, ", ", " "); text != want {
			t.Errorf("%s is %q, wanted %q", name, text, want)
		}
	}
	if c.Passes[3].VLAN != "2" || len(c.Passes[3].Attributes) != 2 {
		t.Error("resolving changes the pass")
	}
	for range 12 {
		last := c.Passes[len(c.Passes)-1].Name
		c.Passes = append(c.Passes, &Pass{Name: last + "x", Extends: last})
	}
	if _, err := c.Resolve(c.Passes[len(c.Passes)-1]); err == nil || !strings.Contains(err.Error(),
		"more than 10 passes") {
		t.Errorf("a long chain: %v", err)
	}
}

func TestAddressesOfRanges(t *testing.T) {
	for text, want := range map[string]string{
		"192.0.2.64/30": "192.0.2.65 192.0.2.66", "192.0.2.64/31": "192.0.2.64 192.0.2.65",
		"192.0.2.7":               "192.0.2.7 192.0.2.7",
		"192.0.2.254 - 192.0.3.1": "192.0.2.254 192.0.3.1", "2001:db8::ff00/120": "2001:db8::ff00 2001:db8::ffff",
		"::ffff:192.0.2.1-192.0.2.2": "192.0.2.1 192.0.2.2",
	} {
		r, err := ParseRange(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := r.At(0).String() + " " + r.At(r.Size-1).String(); got != want || !r.Contains(r.At(0)) ||
			!r.Contains(r.At(r.Size-1)) || r.Contains(r.At(r.Size)) {
			t.Errorf("%s goes from %s, wanted %s", text, got, want)
		}
	}
}

func TestRenamingFollowsEverywhere(t *testing.T) {
	c := sound()
	for _, r := range [][3]string{{"pass", "crew", "sailors"}, {"pass", "bridge", "officers"},
		{"lane", "wired", "Cable"}, {"client", "Pier", "quay"}, {"pool", "VPN", "tunnel"}, {"remote", "far", "away"}} {
		c.Rename(r[0], r[1], r[2])
	}
	c.Passes[0].Name, c.Passes[1].Name, c.Lanes[0].Name, c.Clients[0].Name, c.Pools[0].Name,
		c.Remotes[0].Name = "sailors", "officers", "Cable", "quay", "tunnel", "away"
	for _, p := range c.Check() {
		if !p.Warning {
			t.Errorf("after renaming: %v", p)
		}
	}
}
