package main

import (
	"cmp"
	"flag"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// at is an address with its block of ports, as it is written in tables.
func at(p *apitype.Presence) string {
	if p.Ports == "" {
		return p.Address
	}
	return p.Address + " " + p.Ports
}

func (s *invocation) presenceTable(list []apitype.Presence) {
	var rows [][]string
	for i := range list {
		p := &list[i]
		rows = append(rows, []string{at(p), cut(cmp.Or(p.Display, p.Who), 22), cut(p.Role, 14),
			cut(strings.Join(p.Groups, ", "), 26), cut(p.Source, 14), p.Since.Local().Format("15:04:05")})
	}
	s.table([]string{"ADDRESS", "PERSON", "ROLE", "GROUPS", "SOURCE", "SINCE"}, rows)
}

// readAddress reads an address that may have a port: 192.0.2.41, 192.0.2.41:443 or [2001:db8::1]:443.
func readAddress(text string) (address string, port int) {
	if both, err := netip.ParseAddrPort(text); err == nil {
		return both.Addr().String(), int(both.Port())
	}
	return text, 0
}

func (s *invocation) answerWho(a *apitype.PresenceAnswer) {
	s.say("%s", a.Says)
	if a.Here != nil {
		s.fields([2]string{"person", strings.TrimSpace(a.Here.Display + " (" + a.Here.Who + ")")},
			[2]string{"groups", strings.Join(a.Here.Groups, ", ")}, [2]string{"role", a.Here.Role},
			[2]string{"device", strings.Join(strings.Fields(a.Here.MAC+" "+a.Here.Host+" "+a.Here.Kind), " ")},
			[2]string{"until", a.Here.Until.Local().Format(time.DateTime) + " without another word"})
	}
	if l := a.Lease; l != nil {
		over := ""
		if l.Over {
			over = ", over"
		}
		s.fields(
			[2]string{"lease", fmt.Sprintf("%s since %s until %s%s", l.MAC, l.Since.Local().Format(time.DateTime),
				l.Until.Local().Format(time.DateTime), over)},
		)
	}
	if len(a.Standings) == 0 {
		return
	}
	var rows [][]string
	for i := range a.Standings {
		one := &a.Standings[i]
		rows = append(rows, []string{cut(one.Who, 20), one.Ports, cut(one.Source, 14), fmt.Sprint(one.Trust),
			one.Signed.Local().Format("15:04:05"), one.Says})
	}
	s.say("")
	s.table([]string{"CLAIM", "PORTS", "SOURCE", "TRUST", "SIGNED IN", "WHAT BECOMES OF IT"}, rows)
}

func presenceCommands() []command {
	return []command{
		{"presence", "list", "[TEXT]", "who is at which address", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			who, source := f.String("who", "", "name; * stands for any characters"), f.String("source", "",
				"only what this source says")
			group, in := f.String("group", "", "only people of this group"), f.String("in", "",
				"only addresses in this prefix")
			limit := f.Int("limit", 100, "how many")
			return func(s *invocation, args []string) error {
				q := url.Values{
					"q":      {strings.Join(args, " ")},
					"who":    {*who},
					"source": {*source},
					"group":  {*group},
					"in":     {*in},
					"limit":  {fmt.Sprint(min(*limit, 1000))},
				}
				page, err := client.Get[apitype.PresencePage](s.ctx, s.api, "/presence?"+q.Encode())
				if err != nil {
					return err
				}
				return s.print(page, func() {
					s.presenceTable(page.Items)
					s.say("%d shown, %d altogether.", len(page.Items), page.Total)
				})
			}
		}},
		{"presence", "who", "ADDRESS[:PORT]", "who is there, now or at a past moment, and why",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				moment := f.String(
					"at",
					"",
					"past moment, such as 2026-01-02T15:04:05Z; or how long ago, such as 2h",
				)
				return func(s *invocation, args []string) error {
					text, err := one(args, "address")
					if err != nil {
						return err
					}
					address, port := readAddress(text)
					q := url.Values{"address": {address}, "port": {strconv.Itoa(port)}}
					if *moment != "" {
						when, err := readMoment(*moment)
						if err != nil {
							return err
						}
						q.Set("at", when.UTC().Format(time.RFC3339Nano))
					}
					a, err := client.Get[apitype.PresenceAnswer](s.ctx, s.api, "/presence/who?"+q.Encode())
					if err != nil {
						return err
					}
					return s.print(a, func() { s.answerWho(&a) })
				}
			}},
		{"presence", "history", "[NAME]", "what was reported, the newest first", historyCommand},
		{"presence", "watch", "", "what changes, as it does, until Ctrl-C", watchCommand},
		{"presence", "state", "", "how sources and subscribers do, and what is left out",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, _ []string) error {
					state, err := client.Get[apitype.PresenceState](s.ctx, s.api, "/presence/state")
					if err != nil {
						return err
					}
					return s.print(state, func() { s.presenceState(&state) })
				}
			}},
		{"sighting", "add", "", "report who is where, by hand", sightingCommand},
	}
}

// readMoment reads a moment, or how long ago it was.
func readMoment(text string) (time.Time, error) {
	if ago, err := time.ParseDuration(text); err == nil && ago > 0 {
		return time.Now().Add(-ago), nil
	}
	when, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return when, usageError(
			fmt.Sprintf("%q is neither a moment such as 2026-01-02T15:04:05Z nor a time such as 2h",
				text),
		)
	}
	return when, nil
}

func historyCommand(f *flag.FlagSet) func(*invocation, []string) error {
	address, mac := f.String("address", "", "of this address"), f.String("mac", "", "of this device")
	source, kind := f.String("source", "", "of this source"), f.String("kind", "", "signed-in, still, signed-out, "+
		"leased or released")
	since, limit := f.String("since", "", "from this moment on, or how long back, such as 24h"), f.Int("limit", 50,
		"how many")
	return func(s *invocation, args []string) error {
		q := url.Values{"who": {strings.Join(args, " ")}, "address": {*address}, "mac": {*mac}, "source": {*source},
			"kind": {*kind}}
		if *since != "" {
			when, err := readMoment(*since)
			if err != nil {
				return err
			}
			q.Set("since", when.UTC().Format(time.RFC3339Nano))
		}
		list, err := records[apitype.Sighting](s, "/presence/sightings", q, *limit)
		if err != nil {
			return err
		}
		return s.print(list, func() {
			var rows [][]string
			for _, one := range list {
				where := strings.TrimSpace(one.Address + " " + one.Ports)
				rows = append(rows, []string{one.At.Local().Format("01-02 15:04:05"), one.Kind, cut(one.Who, 18),
					cmp.Or(where, one.MAC), cut(one.Source, 16), cut(one.Detail, 26)})
			}
			s.table([]string{"TIME", "WHAT", "WHO", "WHERE", "SOURCE", "DETAIL"}, rows)
		})
	}
}

func watchCommand(f *flag.FlagSet) func(*invocation, []string) error {
	count := f.Int("count", 0, "stop after this many; 0 for no limit")
	return func(s *invocation, _ []string) error {
		next, shown := "", 0
		for s.ctx.Err() == nil {
			page, err := client.Get[apitype.PresenceChanges](s.ctx, s.api, "/presence/changes?after="+
				url.QueryEscape(next))
			if err != nil {
				if s.ctx.Err() != nil {
					return nil
				}
				return err
			}
			next = page.Next
			for i := range page.Items {
				c := &page.Items[i]
				what := s.paint(green, "here")
				if c.Gone {
					what = s.paint(red, "gone")
				}
				if err := s.print(c, func() {
					s.say("%s  %s  %-32s  %-20s  %-14s  %s", s.paint(faint, c.At.Local().Format("15:04:05")), what,
						at(&c.Presence), cut(c.Who, 20), cut(c.Role, 14), cut(c.Source, 14))
				}); err != nil {
					return err
				}
				if shown++; shown == *count {
					return nil
				}
			}
		}
		return nil
	}
}

func sightingCommand(f *flag.FlagSet) func(*invocation, []string) error {
	var in apitype.SightingFields
	f.StringVar(&in.Kind, "kind", "signed-in", "signed-in, still, signed-out, leased or released")
	f.StringVar(&in.Who, "who", "", "name of the person")
	f.StringVar(&in.Address, "address", "", "IP address")
	f.StringVar(&in.Ports, "ports", "", "block of ports that belongs to the person, such as 20000-20999")
	f.StringVar(&in.MAC, "mac", "", "address of the device")
	f.StringVar(&in.Host, "host", "", "name of the device")
	f.IntVar(&in.Minutes, "minutes", 0, "how long it holds; 0 is that of what operators report")
	f.StringVar(&in.Why, "why", "", "kept with it")
	return func(s *invocation, _ []string) error {
		var out apitype.Sighting
		if err := s.api.Do(s.ctx, http.MethodPost, "/presence/sightings", in, &out); err != nil {
			return err
		}
		return s.print(out, func() { s.say("Taken as %s.", out.ID) })
	}
}

// atNode says at which other node something is.
func atNode(name string) string {
	if name == "" {
		return ""
	}
	return " at " + name
}

func (s *invocation) presenceState(state *apitype.PresenceState) {
	s.say("Known at addresses: %d.", state.Total)
	if !state.Complete {
		s.say("This node has just started; what it knew before is read.")
	}
	var rows [][]string
	for _, one := range state.Sources {
		rows = append(rows, []string{cut(one.Name, 20), one.Way, fmt.Sprint(one.Trust), fmt.Sprint(one.Taken),
			fmt.Sprint(one.LeftOut), fmt.Sprint(one.Refused + one.Unread), cut(one.Says, 44) + atNode(one.Node)})
	}
	s.say("")
	s.table([]string{"SOURCE", "WAY", "TRUST", "TAKEN", "LEFT OUT", "REFUSED", "STATE"}, rows)
	rows = nil
	for _, one := range state.Subscribers {
		contact := ""
		if one.Contact != nil {
			contact = ago(*one.Contact)
		}
		rows = append(
			rows,
			[]string{cut(one.Name, 20), cut(one.From, 20), fmt.Sprint(one.Told), fmt.Sprint(one.Behind),
				contact, cut(one.Says, 40) + atNode(one.Node)},
		)
	}
	s.say("")
	s.table([]string{"SUBSCRIBER", "FROM", "TOLD", "BEHIND", "CONTACT", "STATE"}, rows)
	for _, rule := range state.Rules {
		s.say("left out %d: %s", rule.Count, rule.Rule)
	}
	for _, one := range state.Strangers {
		s.say(
			"%s reports by %s%s and is no source (%s, last %s)",
			one.Address,
			one.Way,
			atNode(one.Node),
			many(int(one.Count), "message"),
			ago(one.Last),
		)
	}
	for i := range state.Conflicts {
		c := &state.Conflicts[i]
		s.say("conflict at %s: %s by %s %s", at(&c.Presence), c.Who, c.Source, c.Says)
	}
	for _, text := range state.Warnings {
		s.say("%s", text)
	}
}
