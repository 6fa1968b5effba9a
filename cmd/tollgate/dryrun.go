package main

import (
	"flag"
	"net/http"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// gearQuestion are the flags for what gear asks over TACACS+.
type gearQuestion struct {
	asks, command *string
	level         *int
}

func newGearQuestion(f *flag.FlagSet) gearQuestion {
	return gearQuestion{f.String("ask", "", "over TACACS+: login, enable, shell, command, or a service; without "+
		"it, RADIUS"), f.String("command", "", "with -ask command: what is typed"),
		f.Int("level", 0, "with -ask enable: privilege level")}
}

func (g gearQuestion) assign(was map[string]bool, in *apitype.ExpectationFields) {
	assign(was, "ask", &in.Asks, *g.asks)
	assign(was, "command", &in.Command, *g.command)
	assign(was, "level", &in.Level, *g.level)
}

func dryRunCommand() command {
	return command{"attempt", "dry-run", "", "dry run: the trace of an attempt that is not made",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			values, at := attributeFlag{}, moment{}
			f.Var(&values, "attr", "NAME=VALUE of a further attribute of the request; repeatable")
			f.Var(&at, "at", "time of the attempt; default now")
			sent, through, method := f.String("user", "", "name as the device would send it"), f.String("client", "",
				"client that asks"), f.String("method", "pap", "method; a correct credential is assumed")
			gear := newGearQuestion(f)
			running := f.Bool("running", false, "with what is running, not with the draft")
			return func(s *invocation, _ []string) error {
				in := apitype.ExpectationFields{Sent: *sent, Client: *through, Method: *method, At: at.Time,
					Attributes: append([]config.Attribute{}, values...)}
				gear.assign(given(f), &in)
				of := map[bool]string{true: "running", false: "draft"}[*running]
				var out apitype.DryRun
				if err := s.api.Do(s.ctx, http.MethodPost, "/dry-run?of="+of, in, &out); err != nil {
					return err
				}
				return s.print(out, func() {
					if out.Unsure != "" {
						s.say("Not sure: %s", out.Unsure)
					}
					person := ""
					if out.Facts.Person != nil {
						person = out.Facts.Person.Label()
					}
					when := out.Facts.At
					if when.IsZero() {
						when = time.Now()
					}
					s.road(apitype.AttemptDetail{Attempt: apitype.Attempt{At: when, Person: person,
						Sent:   out.Facts.Name(),
						Client: out.Facts.Client, Where: out.Facts.Where()}, Facts: out.Facts, Trace: out.Trace,
						Under: "dry run under " + out.Under})
				})
			}
		}}
}
