package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// readyCommand tells who is ready for a second factor.
func readyCommand() command {
	return command{"factor", "ready", "[GROUP]", "who has a second factor, by group; of a group: each person",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			days := f.Int("days", 30, "how far back attempts are looked at")
			without := f.Bool("without", false, "with GROUP, list only people who have none")
			file := f.String("csv", "", "write each person into this `file`, as CSV")
			return func(s *invocation, args []string) error {
				if len(args) > 1 {
					return usageError("give one group, or none")
				}
				q := url.Values{"days": {fmt.Sprint(*days)}, "without": {fmt.Sprint(*without)}, "limit": {"0"}}
				if len(args) == 1 {
					q.Set("group", args[0])
					q.Set("limit", "5000")
				}
				if *file != "" {
					return s.readyFile(*file, url.Values{"group": args})
				}
				var out apitype.Readiness
				if err := s.api.Do(s.ctx, http.MethodGet, "/factor-readiness?"+q.Encode(), nil, &out); err != nil {
					return err
				}
				return s.print(out, func() { s.ready(&out, args) })
			}
		}}
}

func (s *invocation) readyFile(file string, q url.Values) error {
	var text []byte
	if err := s.api.Do(s.ctx, http.MethodGet, "/factor-readiness/file?"+q.Encode(), nil, &text); err != nil {
		return err
	}
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return fmt.Errorf("writing who is ready: %w", err)
	}
	return s.print(struct{}{}, func() { s.say("Who is ready is in %s.", file) })
}

// rollOutCommand asks a group for a second factor.
func rollOutCommand() command {
	return command{
		"factor",
		"roll-out",
		"[GROUP]",
		"have a lane of the draft ask this group too, or everybody",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			var in apitype.RolloutInput
			f.StringVar(&in.Lane, "lane", "", "the lane that asks")
			f.StringVar(&in.Factor, "second-factor", "", "code, approval or any; default: as the lane, or any")
			var until moment
			f.Var(&until, "until", "admit people who have none until this `date`, as 2026-12-31")
			return func(s *invocation, args []string) error {
				switch {
				case len(args) > 1:
					return usageError("give one group, or none for everybody")
				case in.Lane == "":
					return usageError("give the lane with -lane")
				case len(args) == 1:
					in.Group = args[0]
				}
				in.Until = until.Time
				var out apitype.Rollout
				if err := s.api.Do(s.ctx, http.MethodPost, "/factor-rollout", in, &out); err != nil {
					return err
				}
				return s.print(out, func() {
					whom := "of everybody"
					if out.When != "" {
						whom = "if " + out.When
					}
					s.say("In the draft lane %s asks for %s, %s.", out.Lane, map[string]string{
						config.OneTimeCode: "a one-time code", config.Approval: "an approval on the phone",
						config.AnyFactor: "a code or an approval"}[out.Factor], whom)
					s.say("%d of %d have none that it takes.", out.Without, out.People)
					if out.Until != nil {
						s.say("They are admitted without until %s.", out.Until.Local().Format("2006-01-02 15:04"))
					}
					s.say("Next: tollgate draft rehearse, tollgate factor invite, tollgate draft publish.")
				})
			}
		},
	}
}
