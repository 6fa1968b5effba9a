package main

import (
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

const yamlType = "application/yaml"

func fileCommands() []command {
	return []command{
		{"config", "export", "", "write the configuration as one YAML file", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			of, secrets, to := f.String("of", "draft", "draft, running, or the number of a revision"),
				f.Bool("secrets", false, "with secrets, sealed by the key file of the server"),
				f.String("to", "", "file to write; without it, to the terminal")
			return func(s *invocation, _ []string) error {
				var text []byte
				if err := s.api.Do(s.ctx, http.MethodGet, fmt.Sprintf("/file?of=%s&secrets=%v", url.QueryEscape(*of),
					*secrets), nil, &text); err != nil {
					return err
				}
				if *to != "" {
					return os.WriteFile(*to, text, 0o600)
				}
				_, err := s.file.Write(text)
				return err
			}
		}},
		{"config", "compare", "FILE", "what applying a file would change; nothing is changed",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				with := f.String("with", "draft", "draft, running, or the number of a revision")
				return func(s *invocation, args []string) error {
					_, c, err := s.compareFile(args, *with)
					if err != nil {
						return err
					}
					return s.print(c, func() { s.comparison(c) })
				}
			}},
		{"config", "apply", "FILE", "apply a file to the draft; with -yes", applyFile("")},
	}
}

// compareFile reads a file, - for standard input, and has it compared.
func (s *invocation) compareFile(args []string, with string) (client.Raw, apitype.FileComparison, error) {
	raw := client.Raw{Type: yamlType}
	var c apitype.FileComparison
	path, err := one(args, "file")
	if err != nil {
		return raw, c, err
	}
	if path == "-" {
		raw.Body, err = io.ReadAll(os.Stdin)
	} else {
		raw.Body, err = os.ReadFile(path)
	}
	if err != nil {
		return raw, c, err
	}
	return raw, c, s.api.Do(s.ctx, http.MethodPost, "/file/compare?with="+url.QueryEscape(with), raw, &c)
}

func (s *invocation) comparison(c apitype.FileComparison) {
	s.changes(c.Changes)
	s.more(c.More)
	s.problems(c.Problems)
	if c.Comments > 0 {
		s.say("The file holds %s, which are not kept: use notes instead.", many(c.Comments, "comment"))
	}
}

// applyFile puts a file into the draft, after saying what that changes. With only set, the file may hold that list
// alone.
func applyFile(only string) func(f *flag.FlagSet) func(*invocation, []string) error {
	return func(f *flag.FlagSet) func(*invocation, []string) error {
		yes, over := f.Bool("yes", false, "do it"), f.Bool("over-draft", false, "also if the draft holds changes")
		return func(s *invocation, args []string) error {
			raw, c, err := s.compareFile(args, "draft")
			if err != nil {
				return err
			}
			if only != "" && !slices.Equal(c.Lists, []string{only}) {
				return fmt.Errorf("the file holds %s, and not %s alone; use `tollgate config apply` for it",
					strings.Join(c.Lists, ", "), only)
			}
			if !*yes || s.json && !*yes {
				if err := s.print(c, func() { s.comparison(c) }); err != nil {
					return err
				}
				if len(c.Changes) > 0 && !s.json {
					s.say("Nothing was changed yet. Add -yes to apply it.")
				}
				return nil
			}
			if len(c.Others) > 0 && !*over && only == "" {
				return fmt.Errorf("the draft holds changes (%s) that the file may overwrite; publish or discard "+
					"them, or add -over-draft",
					strings.Join(c.Others[:min(3, len(c.Others))], "; "))
			}
			var d apitype.Draft
			if err := s.api.Do(s.ctx, http.MethodPost, "/file/apply?mark="+url.QueryEscape(c.Mark), raw,
				&d); err != nil {
				return err
			}
			return s.print(d, func() {
				s.comparison(c)
				s.say("The file is applied to the draft, %s. Publish with: tollgate draft publish",
					many(len(d.Changes)+d.More, "change"))
			})
		}
	}
}
