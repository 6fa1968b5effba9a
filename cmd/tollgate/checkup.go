package main

import (
	"encoding/json"
	"flag"
	"net/http"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func checkupCommands() []command {
	get := func(s *invocation, path string) (apitype.Checkup, error) {
		return client.Get[apitype.Checkup](s.ctx, s.api, path)
	}
	return []command{
		{"checkup", "show", "", "the last outcome of every check, the worst first",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				at, all := nodeFlag(f), f.Bool("all", false, "include checks that passed")
				return func(s *invocation, _ []string) error {
					out, err := get(s, at("/checkup"))
					if err != nil {
						return err
					}
					failed := false
					for _, l := range out.Lines {
						failed = failed || l.State == results.Fail
					}
					err = s.print(out, func() {
						passed := 0
						for _, l := range out.Lines {
							if l.State == results.Pass && !*all {
								passed++
								continue
							}
							s.checked(l)
						}
						switch {
						case out.Ran == nil:
							s.say("It has not run yet: `tollgate checkup run`.")
						case passed > 0:
							s.say("%d checks passed; the last one ended at %s.", passed,
								out.Ran.Local().Format("15:04:05 MST"))
						}
					})
					if err == nil && failed {
						return errFailed
					}
					return err
				}
			}},
		{"checkup", "run", "[DIRECTORY]", "run the checks now", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			at := nodeFlag(f)
			return func(s *invocation, args []string) error {
				in := apitype.CheckupInput{}
				if len(args) > 1 {
					return usageError("give one directory, or none for everything")
				}
				if len(args) == 1 {
					in.Directory = args[0]
				}
				return s.checkup(at("/checkup"), in)
			}
		}},
		{"checkup", "changes", "", "what changed from one checkup to the next, the newest first",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				at := nodeFlag(f)
				return func(s *invocation, _ []string) error {
					out, err := get(s, at("/checkup"))
					if err != nil {
						return err
					}
					return s.print(out.Changes, func() {
						var rows [][]string
						for _, c := range out.Changes {
							was := c.Was
							if was == "" {
								was = "new"
							}
							rows = append(rows, []string{c.At.Local().Format("01-02 15:04:05"), c.Line.Subject,
								was + " -> " + string(c.Line.State), c.Line.Title})
						}
						s.table([]string{"AT", "DIRECTORY", "CHANGE", "CHECK"}, rows)
					})
				}
			}},
	}
}

// checked prints a line of the checkup.
func (s *invocation) checked(l results.Line) {
	step := l.Step
	if step.Server == "" {
		step.Server = l.Subject
	} else {
		step.Server = l.Subject + " " + step.Server
	}
	s.step(step)
}

func (s *invocation) checkup(path string, in apitype.CheckupInput) error {
	passed := false
	lines := []results.Line{}
	err := s.api.Stream(s.ctx, http.MethodPost, path, in, func(e client.Event) bool {
		if e.Name == "end" {
			var end apitype.CheckupEnd
			json.Unmarshal(e.Data, &end)
			passed = end.OK
			return false
		}
		var l results.Line
		if json.Unmarshal(e.Data, &l) == nil && l.State != results.Running {
			if lines = append(lines, l); !s.json {
				s.checked(l)
			}
		}
		return true
	})
	if err != nil {
		return err
	}
	if s.json {
		if err := s.print(map[string]any{"ok": passed, "lines": lines}, nil); err != nil {
			return err
		}
	}
	if !passed {
		return errFailed
	}
	return nil
}
