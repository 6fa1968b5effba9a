package main

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

var passes = kind[apitype.Pass]{
	noun: "pass", path: "/passes",
	headings: []string{"NAME", "EXTENDS", "VLAN", "ROLE", "SESSION", "FURTHER", "GIVEN BY"},
	row: func(p apitype.Pass) []string {
		return []string{p.Name, p.Extends, p.VLAN, p.Role, seconds(p.SessionTimeout), further(p),
			strings.Join(p.UsedBy, ", ")}
	},
	show: func(s *invocation, p apitype.Pass) {
		s.fields([2]string{"name", p.Name}, [2]string{"extends", p.Extends}, [2]string{"vlan", p.VLAN},
			[2]string{"role", p.Role}, [2]string{"session time-out", seconds(p.SessionTimeout)},
			[2]string{"at the time-out", p.AtTimeout}, [2]string{"idle time-out", seconds(p.IdleTimeout)},
			[2]string{"sessions at once", sessionLimit(p)},
			[2]string{"access rules", strings.Join(p.AccessRules, "; ")}, [2]string{"address", p.Address},
			[2]string{"pool", p.Pool},
			[2]string{"name to report", p.ReportName}, [2]string{"class", p.Class}, [2]string{"rate down",
				kbits(p.RateDown)}, [2]string{"rate up", kbits(p.RateUp)},
			[2]string{"given by", strings.Join(p.UsedBy, ", ")}, [2]string{"note", p.Note})
		s.say("\nReply attributes, and each as it goes over the wire:")
		for _, r := range p.Reply {
			s.say("  %-26s %-28s %s", r.Name, r.Value, s.paint(faint, r.Hex))
		}
		if len(p.Gear) > 0 || p.Commands != "" {
			s.say("\nFor network gear over TACACS+:")
			for _, g := range p.Gear {
				s.say("  %-26s %-28s %s", g.Name, g.Value, s.paint(faint, g.Place))
			}
			s.say("  %-26s %s", "command list", or(p.Commands, "none, so no command is permitted"))
		}
	},
}

// sessionLimit says how many sessions one person may have at once.
func sessionLimit(p apitype.Pass) string {
	if p.MaxSessions == 0 {
		return ""
	}
	text := fmt.Sprintf("%d of one person, more are refused", p.MaxSessions)
	if p.AtLimit == string(config.EndOldest) {
		text = fmt.Sprintf("%d of one person, one more ends the oldest", p.MaxSessions)
	}
	return text
}

// further lists in a few words what a pass holds beside VLAN, role and session.
func further(p apitype.Pass) string {
	var out []string
	for _, part := range []struct {
		set  bool
		text string
	}{{p.AtTimeout != "", p.AtTimeout}, {p.IdleTimeout > 0, "idle " + seconds(p.IdleTimeout)},
		{p.MaxSessions > 0, fmt.Sprintf("%d at once", p.MaxSessions)}, {len(p.AccessRules) > 0,
			many(len(p.AccessRules), "rule")}, {p.Address != "", p.Address}, {p.Pool != "", "pool " + p.Pool},
		{p.ReportName != "", "reports " + p.ReportName}, {p.Class != "", "class " + p.Class}, {p.RateDown+p.RateUp > 0,
			fmt.Sprintf("%d/%d kbit/s", p.RateDown, p.RateUp)}, {p.PrivilegeLevel != "", "level " + p.PrivilegeLevel},
		{p.Commands != "", "commands " + p.Commands}, {len(p.Arguments) > 0, many(len(p.Arguments), "argument")},
		{len(p.Attributes) > 0, attributes(p.Attributes)}} {
		if part.set {
			out = append(out, part.text)
		}
	}
	return strings.Join(out, ", ")
}

func kbits(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d kbit/s", n)
}

func seconds(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d s", n)
}

func attributes(list []config.Attribute) string {
	var out []string
	for _, a := range list {
		out = append(out, a.Name+"="+a.Value)
	}
	return strings.Join(out, " ")
}

func passCommands() []command {
	return slices.Concat(passes.commands(), writer("pass", "/passes", func(f *flag.FlagSet) func(map[string]bool,
		*apitype.Pass, string) any {
		values, rules := attributeFlag{}, whole{}
		f.Var(&values, "attr", "NAME=VALUE of a further attribute; repeatable, replaces those of the pass")
		f.Var(&rules, "rule", "access rule, such as \"permit in ip from any to 192.0.2.0/24\"; repeatable, replaces")
		name, vlan, role, note := f.String("name", "", "new name"),
			f.String("vlan", "", "identifier from 1 to 4094, or a name"), f.String("role", "", "sent as Filter-Id"),
			f.String("text", "", "note")
		extends, address, report, class := f.String("extends", "", "pass that provides the values left empty here"),
			f.String("address", "", "address that the person gets"), f.String("report", "",
				"name by which the session is reported, such as {{person}}"),
			f.String("class", "", "comes back with accounting")
		timeout, idle, again := f.Int("session-timeout", 0, "seconds; 0 is none"), f.Int("idle-timeout", 0,
			"seconds; 0 is none"), f.Bool("sign-in-again", false, "at the session time-out sign in again, not end")
		most, atLimit := f.Int("max-sessions", 0, "how many sessions with it one person may have at once; 0 is "+
			"any number"),
			f.String("at-limit", "", "what happens to one more: refuse, or end-oldest")
		var arguments argumentFlag
		f.Var(&arguments, "argument", "[SERVICE:]NAME=VALUE, or NAME*VALUE if optional, for network gear; "+
			"repeatable, replaces")
		level, list := f.String("level", "", "privilege level on network gear, 0 to 15"), f.String("commands", "",
			"command list for network gear")
		pool := f.String("pool", "", "pool that gives the address; needs a session time-out")
		down, up := f.Int("rate-down", 0, "kbit/s towards the person; 0 is no limit"),
			f.Int("rate-up", 0, "kbit/s from the person; 0 is no limit")
		return func(was map[string]bool, old *apitype.Pass, label string) any {
			in := apitype.PassFields{Attributes: []config.Attribute{}, AccessRules: []string{},
				Arguments: []config.Argument{}}
			if old != nil {
				in = old.PassFields
			}
			in.Name = label
			assign(was, "attr", &in.Attributes, []config.Attribute(values))
			assign(was, "rule", &in.AccessRules, []string(rules))
			assign(was, "name", &in.Name, *name)
			assign(was, "extends", &in.Extends, *extends)
			assign(was, "vlan", &in.VLAN, *vlan)
			assign(was, "role", &in.Role, *role)
			assign(was, "address", &in.Address, *address)
			assign(was, "pool", &in.Pool, *pool)
			assign(was, "report", &in.ReportName, *report)
			assign(was, "class", &in.Class, *class)
			assign(was, "session-timeout", &in.SessionTimeout, *timeout)
			assign(was, "idle-timeout", &in.IdleTimeout, *idle)
			assign(was, "max-sessions", &in.MaxSessions, *most)
			assign(was, "at-limit", &in.AtLimit, *atLimit)
			assign(was, "sign-in-again", &in.AtTimeout, map[bool]string{true: string(config.SignInAgain)}[*again])
			assign(was, "rate-down", &in.RateDown, *down)
			assign(was, "rate-up", &in.RateUp, *up)
			assign(was, "argument", &in.Arguments, []config.Argument(arguments))
			assign(was, "level", &in.PrivilegeLevel, *level)
			assign(was, "commands", &in.Commands, *list)
			assign(was, "text", &in.Note, *note)
			return in
		}
	}, func(p apitype.Pass) (apitype.Meta, string) { return p.Meta, p.Name }))
}

// argumentFlag is a flag of arguments for network gear.
type argumentFlag []config.Argument

func (l *argumentFlag) String() string { return "" }
func (l *argumentFlag) Set(text string) error {
	at := strings.IndexAny(text, "=*")
	if at < 1 {
		return fmt.Errorf("%q is not NAME=VALUE or NAME*VALUE", text)
	}
	service, name, found := strings.Cut(text[:at], ":")
	if !found {
		service, name = "", service
	}
	*l = append(*l, config.Argument{Service: service, Name: name, Value: text[at+1:], Optional: text[at] == '*'})
	return nil
}
