package main

import (
	"flag"
	"fmt"
	"net/url"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func searchCommands() []command {
	return []command{{"find", "", "TEXT", "find a person, MAC, address, client or other object",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			limit := f.Int("limit", 5, "answers of each kind")
			return func(s *invocation, args []string) error {
				if len(args) == 0 {
					return usageError("say what to find: part of a name, a MAC or an IP address")
				}
				q := url.Values{"q": {strings.Join(args, " ")}, "limit": {fmt.Sprint(*limit)}}
				found, err := client.Get[apitype.Answers](s.ctx, s.api, "/search?"+q.Encode())
				if err != nil {
					return err
				}
				return s.print(found, func() {
					var rows [][]string
					for _, a := range found.Items {
						if a.Kind != "attempts" {
							rows = append(rows, []string{a.Kind, a.Name, a.Note})
						}
					}
					if len(rows) == 0 {
						s.say(
							"Nothing has this in its name. Attempts: tollgate attempt list %s",
							strings.Join(args, " "),
						)
						return
					}
					s.table([]string{"WHAT", "NAME", "NOTE"}, rows)
				})
			}
		}}}
}
