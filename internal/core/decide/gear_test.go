package decide

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// gearPlan is a small world of gear: two command lists, one of which extends the other, and passes with and without.
func gearPlan(t testing.TB, change func(*config.Config)) *Plan {
	t.Helper()
	admit := func(group, pass string) *config.Policy {
		return &config.Policy{ID: group, Name: group, Enabled: true, When: "group is " + group, Outcome: config.Admit,
			Pass: pass}
	}
	c := &config.Config{
		Realms: []*config.Realm{{ID: "r", Name: "here", Forms: []config.Form{{Kind: config.Bare}},
			Lookup: []config.Lookup{{Store: "local"}}}},
		CommandLists: []*config.CommandList{
			{ID: "l1", Name: "looking", Lines: []config.CommandLine{{Verdict: "refuse", Pattern: "show secrets *"},
				{Verdict: "permit", Pattern: "show *"}}},
			{ID: "l2", Name: "ports", Extends: []string{"looking"}, Lines: []config.CommandLine{{Verdict: "permit",
				Pattern: "interface *"}, {Verdict: "refuse", Pattern: "interface eth0"}}},
			{ID: "l3", Name: "nobody's", Otherwise: "permit"},
		},
		Passes: []*config.Pass{{ID: "p1", Name: "ports", PrivilegeLevel: "7", Commands: "ports", SessionTimeout: 90,
			Arguments: []config.Argument{{Name: "mail", Value: "{{person.mail}}"}}}, {ID: "p2", Name: "bare"},
			{ID: "p3", Name: "higher", Extends: "ports", PrivilegeLevel: "15"}},
		Lanes: []*config.Lane{{ID: "a", Name: "Gear", When: "service in device-login, device-command",
			Methods: []string{"pap"}, Policies: []*config.Policy{admit("Ports", "ports"), admit("Bare", "bare"),
				admit("Higher", "higher"),
				{ID: "n", Name: "By night", Enabled: true,
					When: `group is Night and command starts "show" and level at least 1 and authenticated is tacacs and from within 192.0.2.0/24 and asks is command`, Outcome: config.Admit, Pass: "ports"}}}},
	}
	if change != nil {
		change(c)
	}
	c.Normalise()
	p, problems := Compile(c)
	if p == nil {
		t.Fatal(problems)
	}
	return p
}

func gearFacts(group, asks, command string, level int) *facts.Facts {
	f := &facts.Facts{At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), Protocol: "tacacs",
		Service: facts.DeviceLogin, Client: "hh-router-1", Sent: "ann", Credential: reason.OK,
		Person: &facts.Person{Store: "local", Name: "ann", Display: "Ann", State: reason.OK, Groups: []string{group},
			Attributes: map[string][]string{"mail": {"ann@x.example"}}}, Gear: &facts.Gear{Asks: asks,
			Command: command, Level: level}}
	switch {
	case command != "":
		f.Service = facts.DeviceCommand
	case asks == facts.AsksLogin || asks == facts.AsksEnable:
		f.Method = "pap"
	}
	return f
}

func TestWhatGearAsksIsDecided(t *testing.T) {
	p := gearPlan(t, nil)
	for _, c := range []struct {
		group, asks, command string
		level                int
		reason               reason.Code
		says                 string
	}{
		{"Ports", "login", "", 1, reason.OK, "Admitted by policy Ports with pass ports"},
		{"Ports", "enable", "", 7, reason.OK, "Privilege level 7 is granted by pass ports"},
		{"Ports", "enable", "", 8, reason.LevelTooHigh,
			"Privilege level 8 was asked for, and pass ports gives level 7"},
		{"Higher", "enable", "", 15, reason.OK, "pass higher"},
		{"Bare", "enable", "", 0, reason.LevelTooHigh, "pass bare gives none"},
		{"Ports", "shell", "", 1, reason.OK, "The service shell is granted by pass ports"},
		{"Ports", "ppp", "", 1, reason.ServiceNotGranted, "Pass ports grants nothing for the service ppp"},
		{"Ports", "command", "interface eth0", 1, reason.OK, "Permitted by command list ports, line 1: permit " +
			"interface *"},
		{"Ports", "command", "show version", 1, reason.OK, "command list ports, looking, line 2: permit show *"},
		{"Higher", "command", "show secrets all", 1, reason.CommandRefused,
			"Command list ports refuses show secrets all: looking, line 1: refuse show secrets *"},
		{"Ports", "command", "reload", 1, reason.CommandNone, "No line of command list ports matches reload"},
		{"Bare", "command", "reload", 1, reason.CommandNoList, "Pass bare names no command list"},
		{"Nobody", "command", "reload", 1, reason.PolicyNone, "No policy of lane Gear matches"},
	} {
		f := gearFacts(c.group, c.asks, c.command, c.level)
		d, trace := p.Decide(f), p.Trace(f)
		if d.Reason != c.reason || trace.Reason != c.reason || !strings.Contains(trace.Sentence, c.says) {
			t.Errorf("%+v: %s, %q", c, d.Reason, trace.Sentence)
		}
	}
	if n := testing.AllocsPerRun(100, func() { p.Decide(gearLogin) }); n != 0 {
		t.Errorf("deciding a login allocates %v times", n)
	}
	f := gearFacts("Ports", "shell", "", 1)
	if r := p.Trace(f).Reply; len(r) != 3 || r[0].Name+r[0].Value != "priv-lvl7" || r[1].Value != "2" ||
		r[2].Value != "ann@x.example" {
		t.Errorf("a shell gets %+v", r)
	}
	f.Person.Attributes = nil
	if trace := p.Trace(f); trace.Reason != reason.PassValueMissing || !strings.Contains(trace.Sentence,
		"person.mail") {
		t.Errorf("without the value: %s %q", trace.Reason, trace.Sentence)
	}
}

var gearLogin = gearFacts("Ports", "login", "", 1)

func TestConditionsOverGear(t *testing.T) {
	p := gearPlan(t, nil)
	f := gearFacts("Night", "command", "show clock", 1)
	f.Gear.Authenticated = "tacacs"
	if d := p.Decide(f); d.Reason != reason.PolicyNone {
		t.Errorf("from nowhere: %s", d.Reason)
	}
	f.From = netip.MustParseAddr("192.0.2.7")
	if d := p.Decide(f); d.Reason != reason.OK || d.Policy.Name != "By night" {
		t.Errorf("%s by %v", d.Reason, d.Policy)
	}
}

func TestAnalysisOfCommandLists(t *testing.T) {
	p := gearPlan(t, nil)
	var said []string
	for _, f := range p.Analyse(Known{At: time.Now()}) {
		if f.Kind == "command-list" {
			said = append(said, f.Object+" "+string(f.Code)+" "+f.Field+" "+strings.Join(f.Example, "")+" "+f.Instead)
		}
	}
	if got, want := strings.Join(said, "; "), "ports unreachable lines[1] command interface eth0 line 1: permit; "+
		"nobody's unused name  "; got != want {
		t.Errorf("found %q, want %q", got, want)
	}
	rename := gearPlan(t, func(c *config.Config) {
		c.Rename("command-list", "looking", "seeing")
		c.CommandLists[0].Name = "seeing"
	})
	if d := rename.Decide(gearFacts("Ports", "command", "show clock", 1)); d.Reason != reason.OK ||
		d.LineText() != "seeing, line 2: permit show *" {
		t.Errorf("after renaming: %s, %s", d.Reason, d.LineText())
	}
}

func TestFaultsOfGear(t *testing.T) {
	for want, change := range map[string]func(*config.Config){
		"refers to itself":                  func(c *config.Config) { c.CommandLists[0].Extends = []string{"ports"} },
		`there is no command list "gone"`:   func(c *config.Config) { c.CommandLists[0].Extends = []string{"gone"} },
		"column 1: the pattern is empty":    func(c *config.Config) { c.CommandLists[0].Lines[0].Pattern = " " },
		`"allow" is not a verdict`:          func(c *config.Config) { c.CommandLists[0].Lines[0].Verdict = "allow" },
		`"maybe" is not a verdict`:          func(c *config.Config) { c.CommandLists[0].Otherwise = "maybe" },
		`"16" is not a privilege level`:     func(c *config.Config) { c.Passes[0].PrivilegeLevel = "16" },
		"is sent by the device":             func(c *config.Config) { c.Passes[0].Arguments[0].Name = "cmd" },
		"timeout is already set by a field": func(c *config.Config) { c.Passes[0].Arguments[0].Name = "timeout" },
		"no control characters":             func(c *config.Config) { c.Passes[0].Arguments[0].Value = "a\nb" },
		`"a b" is not a service`:            func(c *config.Config) { c.Passes[0].Arguments[0].Service = "a b" },
		"{{ is not closed": func(c *config.Config) {
			c.Passes[0].Arguments[0].Value = "{{person.mail"
		},
		"more than 60 arguments": func(c *config.Config) {
			c.Passes[0].Arguments = make([]config.Argument, 61)
		},
		"not the name of a single device": func(c *config.Config) {
			c.Clients = []*config.Client{{ID: "c", Name: "c", TLSNames: []string{"*.example"}}}
		},
		"no trust list to check": func(c *config.Config) {
			c.Clients = []*config.Client{{ID: "c", Name: "c", TLSNames: []string{"c.example"}}}
		},
		"previous TACACS+ secret has no end": func(c *config.Config) {
			c.Clients = []*config.Client{{ID: "c", Name: "c", TACACSPrevious: "x"}}
		},
		`there is no certificate "gone"`: func(c *config.Config) {
			c.Clients = []*config.Client{{ID: "c", Name: "c", TLSCertificate: "gone"}}
		},
		"belongs to client": func(c *config.Config) {
			c.Clients = []*config.Client{{ID: "c", Name: "c", TLSNames: []string{"x"}},
				{ID: "d", Name: "d", TLSNames: []string{"X"}}}
		},
		"no method is allowed": func(c *config.Config) {
			c.Lanes[0].When, c.Lanes[0].Methods = "service is device-login", nil
		},
		"more than 5000 lines": func(c *config.Config) { manyLines(c) },
		"not obfuscated are taken from this client": func(c *config.Config) {
			c.Clients = []*config.Client{{ID: "c", Name: "c", TACACSPlain: true}}
		},
		"empty, so it refuses every command": func(c *config.Config) { c.CommandLists[2].Otherwise = "" },
		"1001 lines, at most 1000 are allowed": func(c *config.Config) {
			c.CommandLists[2].Lines = make([]config.CommandLine, 1001)
		},
		"an argument has at most 255 octets": func(c *config.Config) {
			c.Passes[0].Arguments[0].Value = strings.Repeat("x", 255)
		},
		`"a=b" is not an argument name`: func(c *config.Config) { c.Passes[0].Arguments[0].Name = "a=b" },
		`there is no trust list "gone"`: func(c *config.Config) {
			c.Clients = []*config.Client{{ID: "c", Name: "c", TLSTrust: "gone"}}
		},
		`there is no command list "looking-not"`: func(c *config.Config) { c.Passes[0].Commands = "looking-not" },
	} {
		var c config.Config
		gearPlan(t, func(whole *config.Config) { c = *whole })
		change(&c)
		c.Normalise()
		_, problems := Compile(&c)
		var all strings.Builder
		for _, problem := range problems {
			all.WriteString(problem.Error() + "\n")
		}
		if !strings.Contains(all.String(), want) {
			t.Errorf("%q is missing in\n%s", want, all.String())
		}
	}
}

func manyLines(c *config.Config) {
	lines := make([]config.CommandLine, 900)
	for i := range lines {
		lines[i] = config.CommandLine{Verdict: "permit", Pattern: "show"}
	}
	for i := range 7 {
		name := string(rune('a' + i))
		c.CommandLists = append(c.CommandLists, &config.CommandList{ID: name, Name: name, Lines: lines})
		c.CommandLists[0].Extends = append(c.CommandLists[0].Extends, name)
	}
}
