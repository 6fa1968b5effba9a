package main

import (
	"flag"
	"fmt"
	"net/http"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func analysisCommand() command {
	return command{"draft", "analyse", "", "what in the draft can never match, or is not used",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			notes := f.Bool("notes", true, "include notes")
			return func(s *invocation, _ []string) error {
				a, err := client.Get[apitype.Analysis](s.ctx, s.api, "/draft/analysis")
				if err != nil {
					return err
				}
				mistakes := 0
				err = s.print(a, func() {
					for _, f := range a.Items {
						if f.Note && !*notes {
							continue
						}
						word := s.paint(red, "mistake")
						if f.Note {
							word = "note"
						}
						where := fmt.Sprintf("%s %q", f.Kind, f.Object)
						if f.Policy != "" {
							where += fmt.Sprintf(", policy %q", f.Policy)
						}
						for i, line := range wrap(fmt.Sprintf("%s: %s: %s. %s", word, where, f.Message, f.Remedy),
							width-4) {
							s.say("%s%s", map[bool]string{true: "", false: "    "}[i == 0], line)
						}
						if len(f.Example) > 0 {
							s.say("    for instance: %s", strings.Join(f.Example, "; "))
						}
					}
					if a.Problem != "" {
						s.say("%s", a.Problem)
						return
					}
					s.say("%s looked at in %.1f ms.", many(a.Policies, "policy"), float64(a.Micros)/1000)
				})
				for _, f := range a.Items {
					if !f.Note {
						mistakes++
					}
				}
				if err == nil && mistakes > 0 {
					return errFailed
				}
				return err
			}
		}}
}

func discardCommand() command {
	return command{"draft", "discard", "[KIND NAME | policy LANE NAME]",
		"discard one change of the draft, or all of them", func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				if len(args) == 0 {
					if err := s.api.Do(s.ctx, http.MethodDelete, "/draft", nil, nil); err != nil {
						return err
					}
					return s.print(struct{}{}, func() { s.say("The draft is the same as what is running.") })
				}
				d, err := client.Get[apitype.Draft](s.ctx, s.api, "/draft")
				if err != nil {
					return err
				}
				part, err := partOf(d.Changes, args)
				if err != nil {
					return err
				}
				if err := s.api.Do(s.ctx, http.MethodPost, "/draft/discard", part, nil); err != nil {
					return err
				}
				return s.print(part, func() { s.say("%s is the same as in what is running.", strings.Join(args, " ")) })
			}
		}}
}

// partOf finds the change that is meant.
func partOf(changes []config.Change, args []string) (apitype.DiscardPart, error) {
	find := func(list []config.Change, kind, name string) *config.Change {
		for i := range list {
			if list[i].Kind == kind && (strings.EqualFold(list[i].Object, name) || list[i].ID == name) {
				return &list[i]
			}
		}
		return nil
	}
	switch {
	case len(args) == 3 && args[0] == "policy":
		if lane := find(changes, "lane", args[1]); lane != nil {
			if c := find(lane.Parts, "policy", args[2]); c != nil {
				return apitype.DiscardPart{Kind: "policy", ID: c.ID, Lane: lane.ID}, nil
			}
		}
	case len(args) == 2:
		if c := find(changes, args[0], args[1]); c != nil {
			return apitype.DiscardPart{Kind: c.Kind, ID: c.ID}, nil
		}
	default:
		return apitype.DiscardPart{}, usageError("give a kind and a name, policy with a lane and a name, or nothing " +
			"for all")
	}
	return apitype.DiscardPart{}, fmt.Errorf("the draft holds no change of %s", strings.Join(args, " "))
}

func hitCommands() []command {
	return []command{
		{"policy", "hits", "[LANE]", "how often each policy and row decided, and when last",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					all, err := client.Get[apitype.AllHits](s.ctx, s.api, "/hits")
					if err != nil {
						return err
					}
					lanes, err := listAll[apitype.Lane](s, "/lanes")
					if err != nil {
						return err
					}
					return s.print(all, func() { s.hits(all, lanes, strings.Join(args, " ")) })
				}
			}},
		{"attempt", "sample", "", "facts of recorded attempts, for a rehearsal elsewhere",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				hours, limit := f.Int("hours", 24, "attempts of the last N hours"),
					f.Int("limit", 1000, "maximum number, up to 5000")
				return func(s *invocation, _ []string) error {
					var text []byte
					if err := s.api.Do(s.ctx, http.MethodGet, fmt.Sprintf("/attempts-sample?hours=%d&limit=%d", *hours,
						*limit), nil, &text); err != nil {
						return err
					}
					_, err := s.file.Write(text)
					return err
				}
			}},
	}
}

func (s *invocation) hits(all apitype.AllHits, lanes []apitype.Lane, only string) {
	var rows [][]string
	for _, lane := range lanes {
		if only != "" && !strings.EqualFold(only, lane.Name) {
			continue
		}
		for _, policy := range lane.Policies {
			for _, h := range all.Items {
				if h.Policy != policy.ID {
					continue
				}
				last, day := "never", int64(0)
				if h.Last != nil {
					last = h.Last.Local().Format("2006-01-02 15:04")
				}
				if h.Stale {
					last += " (90 days)"
				}
				for _, n := range h.Hours[len(h.Hours)-24:] {
					day += n
				}
				rows = append(rows, []string{lane.Name, policy.Name, h.Group, fmt.Sprint(day), fmt.Sprint(h.Since),
					fmt.Sprint(h.Before), last})
			}
		}
	}
	s.table([]string{"LANE", "POLICY", "ROW", "24 H", fmt.Sprintf("REVISION %d", all.Revision), "BEFORE", "LAST"}, rows)
	if len(all.Missing) > 0 {
		s.say("Hits at %s are missing: it does not answer.", strings.Join(all.Missing, " and "))
	}
}
