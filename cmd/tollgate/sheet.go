package main

import (
	"flag"
	"net/http"
	"os"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// importCommand is the command that imports a kind of record from CSV.
func importCommand(noun, help string) command {
	return command{noun, "import", "FILE", help, func(f *flag.FlagSet) func(*invocation, []string) error {
		check, partial := f.Bool("check", false, "only report what would happen"), f.Bool("partial", false,
			"import the valid lines even if others are wrong")
		return func(s *invocation, args []string) error {
			path, err := one(args, "file")
			if err != nil {
				return err
			}
			return s.importSheet(noun, path, *check, *partial)
		}
	}}
}

func (s *invocation) importSheet(noun, path string, check, partial bool) error {
	if path == "-" {
		path = "/dev/stdin"
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var report apitype.SheetReport
	if err := s.api.Do(s.ctx, http.MethodPost, "/"+noun+"-import", apitype.Sheet{CSV: string(text), Check: check,
		Partial: partial}, &report); err != nil {
		return err
	}
	err = s.print(report, func() { s.sheetReport(&report) })
	if err == nil && report.Wrong > 0 {
		return errFailed
	}
	if err == nil && noun == "account" && report.Done {
		hashing, err := client.Get[apitype.Hashing](s.ctx, s.api, "/account-import")
		if err == nil && hashing.Left > 0 && !s.json {
			s.say("%s still to be hashed, in the background; until then they are kept sealed.",
				many(hashing.Left, "password"))
		}
	}
	return err
}

func (s *invocation) sheetReport(report *apitype.SheetReport) {
	listed := 0
	for _, line := range report.Lines {
		if line.What == "wrong" {
			listed++
			s.say("line %d  %s  %s: %s", line.Number, line.Match, line.Field, line.Message)
		}
	}
	if listed < report.Wrong {
		s.say("and %s more that are wrong", many(report.Wrong-listed, "line"))
	}
	what := "imported"
	if !report.Done {
		what = "nothing was stored"
	}
	s.say("%s: %d added, %d changed, %d the same, %d wrong", what, report.Added, report.Changed, report.Same,
		report.Wrong)
}
