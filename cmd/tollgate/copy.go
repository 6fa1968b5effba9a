package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func copyCommands() []command {
	return []command{
		{"directory", "copy", "NAME", "copy the people of a directory now, as its settings say",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "directory")
					if err != nil {
						return err
					}
					var run results.Copy
					err = s.api.Stream(s.ctx, http.MethodPost, directoryPath(name)+"/copy", nil,
						func(e client.Event) bool {
							before := run.Read
							if json.Unmarshal(e.Data, &run) == nil && run.Ended == nil && run.Read > before && !s.json {
								s.say("%d read below %s", run.Read, run.Below)
							}
							return run.Ended == nil
						})
					if err != nil {
						return err
					}
					if run.Problem != "" {
						return errors.New(run.Problem)
					}
					return s.print(run, func() { s.say("%s", described(&run)) })
				}
			}},
		{"directory", "copied", "NAME [TEXT]", "the copies of people, by any part of a name or attribute",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				missing, gone := f.Bool("missing", false, "only people who lack a wanted attribute"),
					f.Bool("gone", false, "only people who no longer exist")
				after, limit := f.String("after", "", "cursor: where the previous page ended"),
					f.Int("limit", 100, "how many")
				return func(s *invocation, args []string) error {
					if len(args) < 1 || len(args) > 2 {
						return usageError("give a directory, and perhaps a part of a name")
					}
					query := url.Values{"missing": {fmt.Sprint(*missing)}, "gone": {fmt.Sprint(*gone)},
						"limit": {fmt.Sprint(*limit)}}
					if len(args) == 2 {
						query.Set("q", args[1])
					}
					if *after != "" {
						query.Set("after", *after)
					}
					out, err := client.Get[apitype.Copy](s.ctx, s.api, directoryPath(args[0])+"/copy?"+query.Encode())
					if err != nil {
						return err
					}
					return s.print(out, func() {
						var rows [][]string
						for _, p := range out.Items {
							state := p.State
							if p.Gone != nil {
								state = "gone since " + p.Gone.Local().Format("2006-01-02")
							}
							rows = append(rows, []string{p.Name, p.Display, state, p.Missing})
						}
						s.table([]string{"NAME", "CALLED", "STATE", "LACKS"}, rows)
						if out.Next != "" {
							s.say("Continue with -after %s", out.Next)
						}
						if out.Run == nil {
							s.say("No copy was made yet: `tollgate directory copy %s`.", args[0])
						} else {
							s.say("%s", described(out.Run))
						}
					})
				}
			}},
	}
}

// described says in a line what a run did.
func described(r *results.Copy) string {
	text := fmt.Sprintf("%d people copied at %s; %d lack a wanted attribute, %d are no longer there.", r.Read,
		r.Started.Local().Format("2006-01-02 15:04 MST"), r.Missing, r.Gone)
	if r.Problem != "" {
		text = fmt.Sprintf("The last run, at %s, failed after %d people: %s",
			r.Started.Local().Format("2006-01-02 15:04 MST"), r.Read, r.Problem)
	}
	return text
}
