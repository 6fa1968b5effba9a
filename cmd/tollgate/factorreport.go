package main

import (
	"flag"
	"fmt"
	"net/http"
	"os"

	"tollgate.example/key/internal/web/apitype"
)

// reportCommand tells whether servers and gear are ready for a second factor.
func reportCommand() command {
	return command{"factor", "report", "[FILE]", "are servers and gear ready; with FILE, as HTML for a ticket",
		func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				if len(args) > 1 {
					return usageError("give one file, or none")
				}
				if len(args) == 1 {
					var page []byte
					if err := s.api.Do(s.ctx, http.MethodGet, "/factor-report/file", nil, &page); err != nil {
						return err
					}
					if err := os.WriteFile(args[0], page, 0o600); err != nil {
						return fmt.Errorf("writing the report: %w", err)
					}
					return s.print(struct{}{}, func() { s.say("The report is in %s.", args[0]) })
				}
				var out apitype.FactorReport
				if err := s.api.Do(s.ctx, http.MethodGet, "/factor-report", nil, &out); err != nil {
					return err
				}
				return s.print(out, func() {
					area := ""
					for _, c := range out.Checks {
						if c.Area != area {
							area = c.Area
							s.say("%s", area)
						}
						s.say("  %-4s  %s: %s", c.State, c.Title, c.Found)
						if c.Remedy != "" {
							s.say("        %s", c.Remedy)
						}
					}
				})
			}
		}}
}
