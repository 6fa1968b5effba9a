package main

import (
	"bufio"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var sources = kind[apitype.Source]{
	noun: "source", path: "/sources",
	headings: []string{"NAME", "WAY", "FROM", "TRUST", "MINUTES", "STATE"},
	row: func(o apitype.Source) []string {
		return []string{
			o.Name,
			o.Way,
			cut(strings.Join(o.From, ", "), 30),
			fmt.Sprint(o.Trust),
			fmt.Sprint(o.Minutes),
			onOff(o.Enabled),
		}
	},
	show: func(s *invocation, o apitype.Source) {
		token := ""
		if o.TokenSet {
			token = "set"
		}
		s.fields([2]string{"name", o.Name}, [2]string{"enabled", onOff(o.Enabled)}, [2]string{"way", o.Way},
			[2]string{"from", strings.Join(o.From, ", ")}, [2]string{"token", token},
			[2]string{"trust", fmt.Sprint(o.Trust)}, [2]string{"holds", fmt.Sprintf("%d minutes", o.Minutes)},
			[2]string{"note", o.Note})
		for _, r := range o.Readers {
			s.fields([2]string{r.Means, r.Pattern})
		}
	},
}

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}

// readerFlag is a flag of KIND=PATTERN entries.
type readerFlag []config.SourceReader

func (r *readerFlag) String() string { return "" }
func (r *readerFlag) Set(text string) error {
	means, pattern, ok := strings.Cut(text, "=")
	if !ok {
		return fmt.Errorf("%q is not KIND=PATTERN, such as 'signed-in={who} logged in from {address}'", text)
	}
	*r = append(*r, config.SourceReader{Means: means, Pattern: pattern})
	return nil
}

func sourceFlags(f *flag.FlagSet) func(was map[string]bool, old *apitype.Source, label string) any {
	name, enabled, note := f.String("name", "", "new name"), f.Bool("enabled", true, "take what it reports"),
		f.String("text", "", "note")
	way := f.String(
		"way",
		config.SourceReports,
		"reports, hosts, logons, dhcp, syslog; or sessions, attempts, accounting, "+
			"operators, portal to change how far they count",
	)
	var from list
	f.Var(&from, "from", "prefix that it may send from; repeatable")
	trust, minutes := f.Int(
		"trust",
		0,
		"1 for what counts most, up to 9; 0 is that of the way",
	), f.Int(
		"minutes",
		0,
		"how long a report holds; 0 is that of the way",
	)
	shared := f.Bool("shared", false, "several people may be at one address")
	var readers readerFlag
	f.Var(
		&readers,
		"reader",
		"syslog: KIND=PATTERN, such as 'signed-in={who} logged in from {address}'; repeatable",
	)
	token := f.Bool("new-token", false, "make another token")
	return func(was map[string]bool, old *apitype.Source, label string) any {
		in := apitype.SourceInput{SourceFields: apitype.SourceFields{Enabled: true, Way: *way, From: []string{},
			Readers: []config.SourceReader{}}, NewToken: *token}
		if old != nil {
			in.SourceFields = old.SourceFields
		}
		in.Name = label
		assign(was, "name", &in.Name, *name)
		assign(was, "enabled", &in.Enabled, *enabled)
		assign(was, "way", &in.Way, *way)
		assign(was, "from", &in.From, []string(from))
		assign(was, "trust", &in.Trust, *trust)
		assign(was, "minutes", &in.Minutes, *minutes)
		assign(was, "shared", &in.Shared, *shared)
		assign(was, "reader", &in.Readers, []config.SourceReader(readers))
		assign(was, "text", &in.Note, *note)
		return in
	}
}

func sourceCommands() []command {
	return slices.Concat(sources.commands(), writer("source", "/sources", sourceFlags, func(o apitype.Source) (
		apitype.Meta, string) {
		return o.Meta, o.Name
	}), []command{{"source", "test", "NAME [LINE]", "read lines, or the standard input, by its forms", testSource}})
}

func testSource(f *flag.FlagSet) func(*invocation, []string) error {
	var readers readerFlag
	f.Var(&readers, "reader", "KIND=PATTERN to try instead of those that it has; repeatable")
	return func(s *invocation, args []string) error {
		if len(args) == 0 {
			return usageError("name the source")
		}
		in := apitype.ReadersInput{Readers: readers, Lines: args[1:]}
		if len(readers) == 0 {
			o, err := client.Get[apitype.Source](s.ctx, s.api, "/sources/"+url.PathEscape(args[0]))
			if err != nil {
				return err
			}
			in.Readers = o.Readers
		}
		if len(in.Lines) == 0 {
			for lines := bufio.NewScanner(s.in); lines.Scan() && len(in.Lines) < 200; {
				in.Lines = append(in.Lines, lines.Text())
			}
		}
		var out apitype.Page[apitype.ReadLine]
		if err := s.api.Do(s.ctx, http.MethodPost, "/sources/check", in, &out); err != nil {
			return err
		}
		return s.print(out.Items, func() { s.readLines(out.Items) })
	}
}

func (s *invocation) readLines(list []apitype.ReadLine) {
	for _, one := range list {
		s.say("%s", cut(one.Line, 98))
		switch {
		case one.Reader == 0:
			s.say("  no form fits")
		case one.Fault != "":
			s.say("  form %d (%s), but %s", one.Reader, one.Means, one.Fault)
		default:
			text := fmt.Sprintf("  form %d: %s", one.Reader, one.Means)
			for _, field := range []string{"who", "address", "ports", "mac", "host"} {
				if one.Fields[field] != "" {
					text += ", " + field + " " + one.Fields[field]
				}
			}
			s.say("%s", text)
		}
	}
}

var scopes = kind[apitype.Scope]{
	noun: "scope", path: "/scopes",
	headings: []string{"NAME", "DOES", "NETWORKS", "NAMES AND DEVICES", "DROPPED"},
	row: func(o apitype.Scope) []string {
		return []string{o.Name, does(o), cut(strings.Join(o.Networks, ", "), 34),
			cut(strings.Join(slices.Concat(o.Accounts, o.Hosts, o.MACs), ", "), 30), fmt.Sprint(o.Dropped)}
	},
	show: func(s *invocation, o apitype.Scope) {
		s.fields(
			[2]string{"name", o.Name},
			[2]string{"does", does(o)},
			[2]string{
				"networks",
				strings.Join(o.Networks, ", "),
			},
			[2]string{"accounts", strings.Join(o.Accounts, ", ")},
			[2]string{"hosts", strings.Join(o.Hosts, ", ")},
			[2]string{"devices", strings.Join(o.MACs, ", ")},
			[2]string{"dropped", fmt.Sprint(o.Dropped)},
			[2]string{"note", o.Note},
		)
	},
}

func does(o apitype.Scope) string {
	if o.LeaveOut {
		return "leaves out"
	}
	return "watches"
}

func scopeCommands() []command {
	return slices.Concat(scopes.commands(), writer("scope", "/scopes", func(f *flag.FlagSet) func(map[string]bool,
		*apitype.Scope, string) any {
		name, note := f.String("name", "", "new name"), f.String("text", "", "note")
		leaveOut := f.Bool("leave-out", false, "leave out what fits; else its networks are watched")
		var networks, accounts, hosts, macs list
		f.Var(&networks, "network", "prefix; of all scopes the longest decides; repeatable")
		f.Var(&accounts, "account", "name that is never a person's, such as svc-*; repeatable")
		f.Var(&hosts, "host", "host that is nobody's; repeatable")
		f.Var(&macs, "mac", "beginning of addresses of devices that are nobody's; repeatable")
		return func(was map[string]bool, old *apitype.Scope, label string) any {
			in := apitype.ScopeFields{
				Networks: []string{},
				Accounts: []string{},
				Hosts:    []string{},
				MACs:     []string{},
			}
			if old != nil {
				in = old.ScopeFields
			}
			in.Name = label
			assign(was, "name", &in.Name, *name)
			assign(was, "leave-out", &in.LeaveOut, *leaveOut)
			assign(was, "network", &in.Networks, []string(networks))
			assign(was, "account", &in.Accounts, []string(accounts))
			assign(was, "host", &in.Hosts, []string(hosts))
			assign(was, "mac", &in.MACs, []string(macs))
			assign(was, "text", &in.Note, *note)
			return in
		}
	}, func(o apitype.Scope) (apitype.Meta, string) { return o.Meta, o.Name }))
}

var subscribers = kind[apitype.Subscriber]{
	noun: "subscriber", path: "/subscribers",
	headings: []string{"NAME", "FROM", "NETWORKS", "GROUPS", "STATE"},
	row: func(o apitype.Subscriber) []string {
		return []string{
			o.Name,
			cut(strings.Join(o.From, ", "), 24),
			cut(orAll(o.Networks), 24),
			cut(orAll(o.Groups), 24),
			onOff(o.Enabled),
		}
	},
	show: func(s *invocation, o apitype.Subscriber) {
		s.fields([2]string{"name", o.Name}, [2]string{"enabled", onOff(o.Enabled)},
			[2]string{"from", strings.Join(o.From, ", ")}, [2]string{"networks", orAll(o.Networks)},
			[2]string{"groups", orAll(o.Groups)},
			[2]string{"told at", o.To}, [2]string{"note", o.Note})
	},
}

func orAll(list []string) string {
	if len(list) == 0 {
		return "all"
	}
	return strings.Join(list, ", ")
}

func subscriberCommands() []command {
	return slices.Concat(subscribers.commands(), writer("subscriber", "/subscribers", func(f *flag.FlagSet) func(
		map[string]bool, *apitype.Subscriber, string) any {
		name, enabled, note := f.String("name", "", "new name"), f.Bool("enabled", true, "let it in"),
			f.String("text", "", "note")
		var from, networks list
		var groups whole
		f.Var(&from, "from", "prefix that it may come from; repeatable")
		f.Var(&networks, "network", "prefix that it is told of; repeatable")
		f.Var(&groups, "group", "group whose people it is told of; repeatable")
		to, secret := f.String(
			"to",
			"",
			"host:port of one that is told as RADIUS accounting; empty for one that asks",
		),
			f.String(
				"secret",
				"",
				"with -to: shared secret",
			)
		token := f.Bool("new-token", false, "make another token")
		return func(was map[string]bool, old *apitype.Subscriber, label string) any {
			in := apitype.SubscriberInput{
				SubscriberFields: apitype.SubscriberFields{Enabled: true, From: []string{},
					Networks: []string{}, Groups: []string{}},
				NewToken: *token,
			}
			if old != nil {
				in.SubscriberFields = old.SubscriberFields
			}
			in.Name = label
			assign(was, "name", &in.Name, *name)
			assign(was, "enabled", &in.Enabled, *enabled)
			assign(was, "from", &in.From, []string(from))
			assign(was, "network", &in.Networks, []string(networks))
			assign(was, "group", &in.Groups, []string(groups))
			assign(was, "to", &in.To, *to)
			assign(was, "secret", &in.PushSecret, *secret)
			assign(was, "text", &in.Note, *note)
			return in
		}
	}, func(o apitype.Subscriber) (apitype.Meta, string) { return o.Meta, o.Name }))
}
