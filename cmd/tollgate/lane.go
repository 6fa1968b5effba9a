package main

import (
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

var lanes = kind[apitype.Lane]{
	noun: "lane", path: "/lanes",
	headings: []string{"#", "NAME", "WHEN", "METHODS", "REALM", "DECIDED BY"},
	row: func(l apitype.Lane) []string {
		return []string{fmt.Sprint(l.Number), l.Name, l.When, strings.Join(l.Methods, " "), l.Realm, decidedBy(l)}
	},
	show: func(s *invocation, l apitype.Lane) {
		s.fields(
			[2]string{"name", l.Name},
			[2]string{"when", l.When},
			[2]string{"methods", methodTitles(l.Methods)},
			[2]string{"inside TLS", l.TLS.String()},
			[2]string{"realm", l.Realm},
			[2]string{"forwarded to",
				strings.Join(
					l.Forward,
					", ",
				)},
			[2]string{"second factor", secondFactor(l)},
			[2]string{"reject delay",
				fmt.Sprintf("%d ms", l.RejectDelayMillis)},
			[2]string{"open sessions", follows(l)},
			[2]string{"note", l.Note},
		)
		s.say("")
		s.policies(l)
	},
}

// follows says what becomes of open sessions.
func follows(l apitype.Lane) string {
	if l.Follow {
		return "authenticated again when their people would get something else"
	}
	return ""
}

// secondFactor says what a lane asks for beside the credential.
func secondFactor(l apitype.Lane) string {
	if l.SecondFactor == "" {
		return ""
	}
	how := map[string]string{"": "behind the password or asked for by challenge",
		config.AskChallenge: "asked for by challenge", config.AskAppend: "behind the password"}[l.Factor.Ask]
	text := "one-time code, " + how
	switch l.SecondFactor {
	case config.Approval:
		text = "approval on the phone"
		if l.Factor.Ask == config.AskAppend {
			text += ", without a number"
		}
	case config.AnyFactor:
		text = "approval on the phone, or one-time code " + how
	}
	if l.Factor.When != "" {
		text += ", if " + l.Factor.When
	}
	if l.FactorRestMinutes > 0 {
		text += fmt.Sprintf(", not again within %d min on a client, from the same place", l.FactorRestMinutes)
	}
	text += "; people without one are "
	if days := l.Factor.Until; !days.IsZero() {
		text += "admitted until " + days.Local().Format("2006-01-02 15:04") + ", then "
	}
	if l.Factor.Pass != "" {
		return text + "given pass " + l.Factor.Pass
	}
	return text + "refused"
}

// factorFlags say how a lane asks for its second factor.
func factorFlags(f *flag.FlagSet) func(was map[string]bool, to *config.LaneFactor) {
	ask := f.String(
		"factor-ask",
		config.AskEither,
		"how a code is asked for over RADIUS: challenge, append (behind the\n"+
			"password), or either",
	)
	text := f.String("factor-text", "", "what the person reads when asked by challenge; {number} is what the\n"+
		"phone asks for")
	wait := f.Int("factor-wait", 0, "seconds that a request waits for an approval; 0 is usual")
	when := f.String("factor-when", "", "who is asked, as a condition; empty for everybody")
	var until moment
	f.Var(
		&until,
		"factor-until",
		"date until when people without a second factor are admitted, as 2026-12-31; none\nfor "+
			"not at all",
	)
	pass := f.String("factor-pass", "", "pass of people without a second factor; none refuses them")
	return func(was map[string]bool, to *config.LaneFactor) {
		assign(was, "factor-ask", &to.Ask, *ask)
		assign(was, "factor-text", &to.Text, *text)
		assign(was, "factor-wait", &to.Wait, *wait)
		assign(was, "factor-when", &to.When, *when)
		assign(was, "factor-pass", &to.Pass, strings.TrimSuffix(*pass, "none"))
		assign(was, "factor-until", &to.Until, until.Time)
	}
}

// decidedBy says what decides in a lane.
func decidedBy(l apitype.Lane) string {
	if len(l.Forward) > 0 {
		return strings.Join(l.Forward, ", ")
	}
	return many(len(l.Policies), "policy")
}

func (s *invocation) policies(l apitype.Lane) {
	var rows [][]string
	for i, p := range l.Policies {
		result := p.Pass
		if len(p.Groups) > 0 {
			result = fmt.Sprintf("by group, %d rows", len(p.Groups))
		}
		name := p.Name
		if !p.Enabled {
			name += " (off)"
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), name, p.When, string(p.Outcome), result})
		for _, g := range p.Groups {
			rows = append(rows, []string{"", "  " + g.Group, "", "", g.Pass})
		}
	}
	s.table([]string{"#", "POLICY", "WHEN", "OUTCOME", "PASS"}, rows)
	s.warnings(l.Meta)
}

func laneCommands() []command {
	return slices.Concat(lanes.commands(), writer("lane", "/lanes", func(f *flag.FlagSet) func(map[string]bool,
		*apitype.Lane, string) any {
		var methods, forward list
		f.Var(
			&forward,
			"forward",
			"remote server that decides instead, in the order to ask; repeatable, none for none",
		)
		f.Var(
			&methods,
			"method",
			"method to allow, in order of preference; repeatable: "+strings.Join(config.Methods,
				", "),
		)
		name, when, realm, note := f.String("name", "", "new name"), f.String("when", "always",
			"condition over facts of the request"), f.String("realm", "", "realm; only its names are accepted"),
			f.String("text", "", "note")
		inTLS := tlsFlags(f)
		second := f.String(
			"second-factor",
			"",
			"second factor: code, approval (on a phone), any (either\nof them), or none",
		)
		rest := f.Int("factor-rest", 0, "minutes during which a code is not asked for again, for the same client "+
			"and source")
		asked := factorFlags(f)
		follow := f.String(
			"follow-changes",
			"off",
			"on has open sessions authenticated again when their people would "+
				"get\nsomething else; off leaves them",
		)
		delay := f.Int("reject-delay", 1000, "delay before a refusal, in milliseconds")
		return func(was map[string]bool, old *apitype.Lane, label string) any {
			in := apitype.LaneFields{
				When:              *when,
				Realm:             *realm,
				RejectDelayMillis: *delay,
				Methods:           []string{"pap"},
				Policies:          []*config.Policy{},
			}
			if old != nil {
				in = old.LaneFields
			}
			in.Name = label
			assign(was, "method", &in.Methods, []string(methods))
			if was["forward"] {
				in.Forward = slices.DeleteFunc(append([]string{}, forward...), func(name string) bool {
					return name == "none" || name == ""
				})
			}
			assign(was, "name", &in.Name, *name)
			inTLS(was, &in.TLS)
			assign(was, "when", &in.When, *when)
			assign(was, "realm", &in.Realm, *realm)
			assign(was, "reject-delay", &in.RejectDelayMillis, *delay)
			assign(was, "second-factor", &in.SecondFactor, strings.TrimSuffix(*second, "none"))
			assign(was, "factor-rest", &in.FactorRestMinutes, *rest)
			asked(was, &in.Factor)
			assign(was, "follow-changes", &in.Follow, *follow == "on")
			assign(was, "text", &in.Note, *note)
			return in
		}
	}, func(l apitype.Lane) (apitype.Meta, string) { return l.Meta, l.Name }),
		[]command{{"lane", "move", "NAME", "move a lane to another place in the order",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				to, p := f.Int("at", 1, "the new place, from 1"), publishFlags(f)
				return func(s *invocation, args []string) error {
					name, err := one(args, "lane")
					if err != nil {
						return err
					}
					return s.moveLane(name, *to, p)
				}
			}}})
}

func (s *invocation) moveLane(name string, to int, p publishing) error {
	all, err := listAll[apitype.Lane](s, "/lanes")
	if err != nil {
		return err
	}
	at := slices.IndexFunc(
		all,
		func(l apitype.Lane) bool { return strings.EqualFold(l.Name, name) || l.ID == name },
	)
	if at < 0 {
		return fmt.Errorf("there is no lane %q in the draft", name)
	}
	if to < 1 || to > len(all) {
		return usageError(fmt.Sprintf("-at takes a place from 1 to %d", len(all)))
	}
	lane := all[at]
	all = slices.Insert(slices.Delete(all, at, at+1), to-1, lane)
	ids := []string{}
	for _, l := range all {
		ids = append(ids, l.ID)
	}
	var out apitype.Published
	if err := s.api.Do(s.ctx, http.MethodPut, "/lane-order"+p.query(), map[string]any{"lanes": ids}, &out); err != nil {
		return err
	}
	return s.print(out, func() { s.saved("lane", lane.Name, fmt.Sprintf("moved to place %d", to), out.Revision) })
}

// methodTitles writes methods for people, weak ones marked.
func methodTitles(names []string) string {
	var out []string
	for _, name := range names {
		title := config.Title(name)
		if m := config.FindMethod(name); m != nil && m.Exposed != "" {
			title += " (weak)"
		}
		out = append(out, title)
	}
	return strings.Join(out, ", ")
}

// tlsFlags are for methods that run in TLS.
func tlsFlags(f *flag.FlagSet) func(map[string]bool, *config.LaneTLS) {
	var older list
	certificate, trust := f.String("certificate", "", "server certificate; default: the first one"),
		f.String("trust", "", "trust list for client certificates; default: the first one")
	minimum, binding := f.String("tls-min", "1.2", "lowest version of TLS: 1.0, 1.1, 1.2 or 1.3"),
		f.String("crypto-binding", "optional", "in PEAP: off, optional or require")
	resume, prove := f.Int("resume", 480, "minutes for which a TLS session can be resumed; 0 disables it"),
		f.String("prove", "user", "what TEAP proves: user, machine or both")
	f.Var(&older, "older", "allowance for older peers: no-extended-master-secret, old-ciphers, or none")
	return func(was map[string]bool, t *config.LaneTLS) {
		assign(was, "certificate", &t.Certificate, *certificate)
		assign(was, "trust", &t.Trust, *trust)
		assign(was, "tls-min", &t.Minimum, *minimum)
		assign(was, "crypto-binding", &t.Binding, *binding)
		assign(was, "resume", &t.ResumeMinutes, *resume)
		assign(was, "prove", &t.Prove, *prove)
		if was["older"] {
			t.Older = slices.DeleteFunc(append([]string{}, older...), func(name string) bool {
				return name == "none" || name == ""
			})
		}
	}
}
