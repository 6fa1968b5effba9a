package main

import (
	"flag"
	"slices"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var overrides = kind[apitype.Override]{
	noun: "override", path: "/overrides",
	headings: []string{"NAME", "PERSON", "STORE", "LANE", "PASS", "UNTIL", "OWNER"},
	row: func(o apitype.Override) []string {
		return []string{o.Name, o.Person, o.Store, o.Lane, o.Pass, untilText(o), o.Owner}
	},
	show: func(s *invocation, o apitype.Override) {
		s.fields([2]string{"name", o.Name}, [2]string{"person", o.Person}, [2]string{"store", o.Store},
			[2]string{"lane", o.Lane}, [2]string{"pass", o.Pass}, [2]string{"until", untilText(o)},
			[2]string{"owner", o.Owner}, [2]string{"note", o.Note})
	},
}

func untilText(o apitype.Override) string {
	if o.Until.IsZero() {
		return ""
	}
	text := o.Until.Local().Format("2006-01-02 15:04")
	if o.Over {
		text += " (over)"
	}
	return text
}

func overrideCommands() []command {
	return slices.Concat(overrides.commands(), writer("override", "/overrides",
		func(f *flag.FlagSet) func(map[string]bool, *apitype.Override, string) any {
			var until moment
			f.Var(&until, "until", "valid until, such as 2026-12-01; none for no end")
			name, person, store, lane := f.String("name", "", "new name"), f.String("person", "",
				"name of the person in the store"), f.String("store", "", "only if found in this directory"),
				f.String("lane", "", "only in this lane")
			pass, owner, note := f.String("pass", "", "pass to grant instead"),
				f.String("owner", "", "person responsible for it"), f.String("text", "", "note")
			return func(was map[string]bool, old *apitype.Override, label string) any {
				in := apitype.OverrideFields{}
				if old != nil {
					in = old.OverrideFields
				}
				in.Name = label
				assign(was, "name", &in.Name, *name)
				assign(was, "person", &in.Person, *person)
				assign(was, "store", &in.Store, *store)
				assign(was, "lane", &in.Lane, *lane)
				assign(was, "pass", &in.Pass, *pass)
				assign(was, "owner", &in.Owner, *owner)
				assign(was, "until", &in.Until, until.Time)
				assign(was, "text", &in.Note, *note)
				return in
			}
		}, func(o apitype.Override) (apitype.Meta, string) { return o.Meta, o.Name }))
}

var expectations = kind[apitype.Expectation]{
	noun: "expectation", path: "/expectations",
	headings: []string{"NAME", "SENT", "CLIENT", "METHOD", "WANTED"},
	row: func(e apitype.Expectation) []string {
		return []string{e.Name, e.Sent, e.Client, e.Method, wantedText(e)}
	},
	show: func(s *invocation, e apitype.Expectation) {
		s.fields([2]string{"name", e.Name}, [2]string{"name as sent", e.Sent}, [2]string{"client", e.Client},
			[2]string{"method", e.Method}, [2]string{"attributes", attributes(e.Attributes)},
			[2]string{"wanted", wantedText(e)}, [2]string{"note", e.Note})
	},
}

func wantedText(e apitype.Expectation) string {
	text := "refused"
	if e.Admitted {
		text = "admitted"
	}
	for _, part := range []string{e.Pass, e.Reason} {
		if part != "" {
			text += ", " + part
		}
	}
	if e.VLAN != "" {
		text += ", VLAN " + e.VLAN
	}
	return text
}

func expectationCommands() []command {
	return slices.Concat(expectations.commands(), writer("expectation", "/expectations",
		func(f *flag.FlagSet) func(map[string]bool, *apitype.Expectation, string) any {
			values, at := attributeFlag{}, moment{}
			f.Var(&values, "attr", "NAME=VALUE of a further attribute of the request; repeatable, replaces")
			f.Var(&at, "at", "time of the attempt; none for the time of the check")
			name, sent, asks, method := f.String("name", "", "new name"),
				f.String("user", "", "name as the device would send it"), f.String("client", "", "client that asks"),
				f.String("method", "pap", "method; a correct credential is assumed")
			gear := newGearQuestion(f)
			pass, vlan, refused, reason, note := f.String("pass", "", "pass it is to get"),
				f.String("vlan", "", "VLAN it is to get"), f.Bool("refused", false, "it is to be refused"),
				f.String("reason", "", "with -refused: reason"), f.String("text", "", "note")
			return func(was map[string]bool, old *apitype.Expectation, label string) any {
				in := apitype.ExpectationFields{Method: *method, Admitted: true, Attributes: []config.Attribute{}}
				if old != nil {
					in = old.ExpectationFields
				}
				in.Name = label
				assign(was, "name", &in.Name, *name)
				assign(was, "user", &in.Sent, *sent)
				assign(was, "client", &in.Client, *asks)
				assign(was, "method", &in.Method, *method)
				assign(was, "attr", &in.Attributes, []config.Attribute(values))
				assign(was, "at", &in.At, at.Time)
				gear.assign(was, &in)
				assign(was, "refused", &in.Admitted, !*refused)
				assign(was, "pass", &in.Pass, *pass)
				assign(was, "vlan", &in.VLAN, *vlan)
				assign(was, "reason", &in.Reason, *reason)
				assign(was, "text", &in.Note, *note)
				return in
			}
		}, func(e apitype.Expectation) (apitype.Meta, string) { return e.Meta, e.Name }), []command{dryRunCommand(),
		{"expectation", "check", "", "check all expectations, as publishing does",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				running := f.Bool("running", false, "with what is running, not with the draft")
				return func(s *invocation, _ []string) error {
					of := map[bool]string{true: "running", false: "draft"}[*running]
					all, err := client.Get[apitype.AllExpected](s.ctx, s.api, "/expectations-check?of="+of)
					if err != nil {
						return err
					}
					if err := s.print(all, func() { s.expected(all) }); err != nil {
						return err
					}
					if all.Failed > 0 {
						return errFailed
					}
					return nil
				}
			}}})
}

func (s *invocation) expected(all apitype.AllExpected) {
	colours := map[string]string{"met": green, "failed": red}
	for _, e := range all.Items {
		s.say("%s  %s: %s", s.paint(colours[e.State], fmtState(e.State)), e.Name, e.Wanted)
		if e.State != "met" {
			for _, line := range wrap("it would be: "+e.Got+". "+e.Sentence, width-12) {
				s.say("           %s", line)
			}
		}
	}
	s.say("%d of %s would not be met.", all.Failed, many(len(all.Items), "expectation"))
}

func fmtState(state string) string { return (state + "         ")[:9] }
