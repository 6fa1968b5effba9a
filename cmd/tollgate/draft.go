package main

import (
	"flag"
	"fmt"
	"net/http"
	"strconv"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func (s *invocation) changes(list []config.Change) {
	if len(list) == 0 {
		s.say("No difference.")
	}
	colours := map[string]string{"added": green, "removed": red}
	for _, c := range list {
		s.say("%s %s %q", s.paint(colours[c.What], c.What), c.Kind, c.Object)
		for _, line := range c.Lines {
			for i, part := range wrap(line, width-8) {
				s.say("    %s%s", map[bool]string{true: "", false: "  "}[i == 0], part)
			}
		}
	}
}

// more tells how many changes are not listed.
func (s *invocation) more(n int) {
	if n > 0 {
		s.say("and %s more, which are not listed", many(n, "change"))
	}
}

func (s *invocation) problems(list []config.Problem) {
	for _, p := range list {
		word := s.paint(red, "fault")
		if p.Warning {
			word = "warning"
		}
		s.say("%s: %s %q, %s: %s. %s", word, p.Kind, p.Object, p.Field, p.Message, p.Remedy)
	}
}

func draftCommands() []command {
	return []command{
		{"draft", "show", "", "unpublished changes, and whether they can be published",
			func(*flag.FlagSet) func(*invocation,
				[]string) error {
				return func(s *invocation, _ []string) error {
					d, err := client.Get[apitype.Draft](s.ctx, s.api, "/draft")
					if err != nil {
						return err
					}
					return s.print(d, func() {
						s.say("Running revision %d, %s in the draft.", d.Revision, many(len(d.Changes)+d.More,
							"change"))
						for _, c := range d.Changes {
							s.say("  %s %s %q", c.What, c.Kind, c.Object)
						}
						s.more(d.More)
						s.problems(d.Problems)
						if a := d.Asked; a != nil {
							what := "publish this"
							if a.Revision != 0 {
								what = fmt.Sprintf("return to revision %d", a.Revision)
							}
							s.say(
								"%s asks to %s%s",
								a.Operator,
								what,
								map[bool]string{true: ", but it was changed since.",
									false: or(": "+a.Note, ".")}[a.Stale],
							)
						} else if d.NeedsSecond {
							s.say("A second operator has to agree. Ask with: tollgate draft ask")
						}
					})
				}
			}},
		{"draft", "diff", "", "the draft compared with what is running", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, _ []string) error {
				d, err := client.Get[apitype.Draft](s.ctx, s.api, "/draft")
				if err != nil {
					return err
				}
				return s.print(d.Changes, func() { s.changes(d.Changes); s.more(d.More) })
			}
		}},
		rehearseCommand(),
		analysisCommand(),
		discardCommand(),
		{"draft", "publish", "", "check the whole draft and put it into effect",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				note, despite := f.String("note", "", "why"), f.Bool("despite-expectations", false,
					"also if expectations would not be met")
				return func(s *invocation, _ []string) error {
					var out apitype.Published
					if err := s.api.Do(s.ctx, http.MethodPost, "/draft/publish", apitype.PublishBody{Note: *note,
						Despite: *despite}, &out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("Published as revision %d.", out.Revision)
						if n := len(out.Warnings); n > 1 {
							s.say("%d warnings stand. Read them with: tollgate draft show", n)
						} else {
							s.problems(out.Warnings)
						}
					})
				}
			}},
		{"draft", "ask", "", "ask another operator to publish the draft as it is now",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				in := apitype.AskInput{}
				f.StringVar(&in.Note, "note", "", "why")
				f.IntVar(&in.Revision, "return", 0, "to return to this revision, in place of publishing the draft")
				withdraw := f.Bool("withdraw", false, "ask for it no more")
				return func(s *invocation, _ []string) error {
					if *withdraw {
						if err := s.api.Do(s.ctx, http.MethodDelete, "/draft/ask", nil, nil); err != nil {
							return err
						}
						return s.print(struct{}{}, func() { s.say("Nothing is asked for any more.") })
					}
					var out apitype.Asked
					if err := s.api.Do(s.ctx, http.MethodPost, "/draft/ask", in, &out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("Asked. Another operator who may publish now does: tollgate draft publish")
					})
				}
			}},
		{"revision", "list", "", "published revisions, the newest first", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			limit := f.Int("limit", 20, "how many")
			return func(s *invocation, _ []string) error {
				page, err := client.Get[apitype.Page[apitype.Revision]](s.ctx, s.api,
					fmt.Sprintf("/revisions?limit=%d", *limit))
				if err != nil {
					return err
				}
				return s.print(page.Items, func() {
					var rows [][]string
					for _, r := range page.Items {
						number := fmt.Sprint(r.Number)
						if r.Running {
							number += " *"
						}
						rows = append(rows, []string{number, r.At.Local().Format("2006-01-02 15:04"), r.Operator,
							fmt.Sprint(len(r.Changes) + r.More), r.Note})
					}
					s.table([]string{"REVISION", "PUBLISHED", "BY", "CHANGES", "NOTE"}, rows)
				})
			}
		}},
		{"revision", "diff", "NUMBER", "what returning to a revision would change, or what changed",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				from := f.Int("from", 0, "revision to begin with; 0 is the running one")
				return func(s *invocation, args []string) error {
					number, err := revisionNumber(args)
					if err != nil {
						return err
					}
					d, err := client.Get[apitype.Draft](
						s.ctx,
						s.api,
						fmt.Sprintf("/revisions/%d/diff?from=%d", number,
							*from),
					)
					if err != nil {
						return err
					}
					return s.print(d.Changes, func() { s.changes(d.Changes); s.more(d.More) })
				}
			}},
		{"revision", "return", "NUMBER", "publish the configuration of an earlier revision again",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				note, despite := f.String("note", "", "reason for this change"), f.Bool("despite-expectations", false,
					"also if expectations would not be met")
				return func(s *invocation, args []string) error {
					number, err := revisionNumber(args)
					if err != nil {
						return err
					}
					var out apitype.Published
					body := apitype.PublishBody{Note: *note, Despite: *despite}
					if err := s.api.Do(s.ctx, http.MethodPost, fmt.Sprintf("/revisions/%d/return", number), body,
						&out); err != nil {
						return err
					}
					return s.print(out, func() {
						s.say("Revision %d is in effect again, as revision %d.", number,
							out.Revision)
					})
				}
			}},
	}
}

func revisionNumber(args []string) (int, error) {
	text, err := one(args, "revision number")
	if err != nil {
		return 0, err
	}
	number, err := strconv.Atoi(text)
	if err != nil {
		return 0, usageError(fmt.Sprintf("%q is not a revision number", text))
	}
	return number, nil
}
