package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func rehearseCommand() command {
	return command{"draft", "rehearse", "", "decide recorded attempts again, and list what would change",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			hours, sample := f.Int("hours", 24, "attempts of the last N hours"), f.String("sample", "",
				"file of attempts to decide instead, as attempt sample writes it")
			return func(s *invocation, _ []string) error {
				var end apitype.RehearsalEnd
				in := apitype.RehearsalInput{Hours: *hours}
				if *sample != "" {
					var err error
					if in.Sample, err = readSample(*sample); err != nil {
						return err
					}
				}
				err := s.api.Stream(s.ctx, http.MethodPost, "/rehearsal", in, func(e client.Event) bool {
					if e.Name == "end" {
						json.Unmarshal(e.Data, &end)
						return false
					}
					var p results.Progress
					if json.Unmarshal(e.Data, &p) == nil && !s.json {
						fmt.Fprintf(s.err, "%d of %d, %d would change\n", p.Done, p.Total, p.Changed)
					}
					return true
				})
				if err != nil {
					return err
				}
				if end.Result == nil {
					return errors.New(end.Problem)
				}
				return s.print(end.Result, func() { s.rehearsed(end.Result) })
			}
		}}
}

// readSample reads a file with one JSON object a line.
func readSample(path string) ([]json.RawMessage, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	out := []json.RawMessage{}
	for i, line := range bytes.Split(text, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		if !json.Valid(line) {
			return nil, fmt.Errorf("line %d of %s is not JSON; `tollgate attempt sample` shows the formatat", i+1, path)
		}
		out = append(out, line)
	}
	return out, nil
}

func (s *invocation) rehearsed(r *results.Rehearsal) {
	for _, d := range r.Differences {
		s.say("%s by %s: %s -> %s", many(d.Attempts, "attempt"), many(d.People, "person"), s.ending(&d.Before),
			s.ending(&d.After))
		var names []string
		for _, e := range d.Examples {
			names = append(names, e.Person+" "+e.ID)
		}
		for _, line := range wrap("such as "+strings.Join(names, ", "), width-4) {
			s.say("    %s", line)
		}
	}
	where := "since " + r.Since.Local().Format("2006-01-02 15:04 MST")
	if r.Sample {
		where = "of the sample"
	}
	s.say("%d of %d attempts %s would have a different result than with revision %d.", r.Changed, r.Total, where,
		r.Revision)
	if r.Changed > 0 {
		s.say("The trace of one with the draft: tollgate attempt explain -draft ID")
	}
}

func (s *invocation) ending(e *results.Ending) string {
	if e.Verdict != results.Admitted {
		return s.paint(red, "refused") + " by " + string(e.Reason)
	}
	out := s.paint(green, "admitted") + " with " + e.Pass
	if e.VLAN != "" {
		out += ", VLAN " + e.VLAN
	}
	return out
}

func many(n int, what string) string {
	plural := map[string]string{"person": "people", "policy": "policies"}[what]
	if plural == "" {
		plural = what + "s"
	}
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %s", n, plural)
}
