package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/url"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// journalFlags select entries of the gear journal.
func journalFlags(f *flag.FlagSet) func(args []string) url.Values {
	return recentFlags(f, [2]string{"user", "name as looked up; * stands for any characters"},
		[2]string{"client", "name of the device"},
		[2]string{"kind", "login, enable, shell, command; record for what the gear reported"},
		[2]string{"verdict", "admitted or refused"},
		[2]string{"task", "task identifier, which joins start, updates and stop"})
}

// entry is one entry in a list.
func (s *invocation) entry(e apitype.JournalEntry) {
	verdict := s.paint(faint, "- reported")
	if e.Verdict != "" {
		verdict = s.verdict(e.Verdict)
	}
	what := or(e.Command, e.Pass, map[bool]string{true: e.Reason}[e.Verdict == "refused"])
	kind, level, _ := strings.Cut(e.What, ", ")
	s.say("%s  %s  %-11s  %-13s  %-12s  %-19s  %s", s.paint(faint, e.At.Local().Format("15:04:05")), verdict,
		cut(e.User, 11), cut(e.Client, 13), cut(kind, 12), cut(or(level, what), 19), s.paint(faint, cut(e.From, 15)))
}

func journalCommands() []command {
	return []command{
		{"journal", "list", "[TEXT]", "what was done on network gear, the newest first",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				query, limit := journalFlags(f), f.Int("limit", 20, "how many")
				return func(s *invocation, args []string) error {
					list, err := records[apitype.JournalEntry](s, "/journal", query(args), *limit)
					if err != nil {
						return err
					}
					return s.print(list, func() {
						if len(list) == 0 {
							s.say("No matching entries.")
						}
						for _, e := range list {
							s.entry(e)
						}
					})
				}
			}},
		{"journal", "follow", "[TEXT]", "entries as they are recorded, until Ctrl-C",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				query, count := journalFlags(f), f.Int("count", 0, "stop after this many; 0 for no limit")
				return func(s *invocation, args []string) error {
					return s.followLive("/journal-live", "entry", query(args), *count, func(data []byte) {
						var e apitype.JournalEntry
						if json.Unmarshal(data, &e) == nil {
							s.entry(e)
						}
					})
				}
			}},
		{"journal", "show", "ID", "one entry, and its attempt", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, args []string) error {
				id, err := one(args, "entry")
				if err != nil {
					return err
				}
				e, err := client.Get[apitype.JournalEntry](s.ctx, s.api, "/journal/"+url.PathEscape(id))
				if err != nil {
					return err
				}
				return s.print(e, func() {
					s.fields([2]string{"at", e.At.Local().Format("2006-01-02 15:04:05.000 MST")},
						[2]string{"what", e.What}, [2]string{"who", e.User}, [2]string{"person", e.Person},
						[2]string{"on", e.Client}, [2]string{"port", e.Port}, [2]string{"from", e.From},
						[2]string{"command", e.Command}, [2]string{"verdict", e.Verdict}, [2]string{"why", e.Sentence},
						[2]string{"decided by", e.Line}, [2]string{"pass", e.Pass},
						[2]string{"level", fmt.Sprint(e.Level)}, [2]string{"task", e.Task},
						[2]string{"arguments", strings.Join(e.Args, " ")}, [2]string{"attempt", e.Attempt})
				})
			}
		}},
		exportCommand("journal", "write entries to a file, the oldest first", "/journal-export", journalFlags),
	}
}
