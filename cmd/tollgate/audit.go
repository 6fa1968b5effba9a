package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"tollgate.example/key/internal/core/chain"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// auditFlags select lines of the audit.
func auditFlags(f *flag.FlagSet) func(args []string) url.Values {
	return recentFlags(f, [2]string{"who", "operator; * stands for any characters"},
		[2]string{"kind", "kind of what was changed, such as lane, account, operator, revision"},
		[2]string{"name", "name of what was changed; * stands for any characters"},
		[2]string{"result", "done, refused or failed"}, [2]string{"node", nodeHelp})
}

const nodeHelp = "node whose own it is, instead of the one that is asked"

// nodeFlag is the flag for what each node has of its own; it completes a path of the API.
func nodeFlag(f *flag.FlagSet) func(path string) string {
	name := f.String("node", "", nodeHelp)
	return func(path string) string {
		if *name == "" {
			return path
		}
		return path + "?" + url.Values{"node": {*name}}.Encode()
	}
}

// auditLine is one line in a list.
func (s *invocation) auditLine(l apitype.AuditLine) {
	what := l.What
	switch l.Result {
	case "refused":
		what = s.paint(red, "refused: ") + what
	case "failed":
		what = s.paint(red, "failed: ") + what
	}
	s.say("%s  %s  %-11s  %-15s  %s", s.paint(faint, fmt.Sprintf("%6d", l.Number)),
		s.paint(faint, l.At.Local().Format("01-02 15:04:05")), cut(or(l.Who, l.How), 11), cut(l.From, 15), what)
}

func auditCommands() []command {
	export := exportCommand("audit", "write the audit to a file; as jsonl it can be verified",
		"/audit-export", auditFlags)
	return []command{
		{"audit", "list", "[TEXT]", "who did what, the newest first", func(f *flag.FlagSet) func(*invocation,
			[]string) error {
			query, limit := auditFlags(f), f.Int("limit", 20, "how many")
			return func(s *invocation, args []string) error {
				list, err := records[apitype.AuditLine](s, "/audit", query(args), *limit)
				if err != nil {
					return err
				}
				return s.print(list, func() {
					if len(list) == 0 {
						s.say("No matching lines.")
					}
					for _, l := range list {
						s.auditLine(l)
					}
				})
			}
		}},
		{"audit", "follow", "[TEXT]", "lines as they are recorded, until Ctrl-C",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				query, count := auditFlags(f), f.Int("count", 0, "stop after this many; 0 for no limit")
				return func(s *invocation, args []string) error {
					return s.followLive("/audit-live", "line", query(args), *count, func(data []byte) {
						var l apitype.AuditLine
						if json.Unmarshal(data, &l) == nil {
							s.auditLine(l)
						}
					})
				}
			}},
		{"audit", "show", "NUMBER", "one line, with what changed", showAuditLine},
		export,
		{"audit", "head", "", "where the audit stands, signed, to be noted elsewhere", auditHead},
		{"audit", "verify", "[FILE]", "check that no line was changed, removed, put in or moved", verifyAudit},
	}
}

func showAuditLine(f *flag.FlagSet) func(*invocation, []string) error {
	at := nodeFlag(f)
	return func(s *invocation, args []string) error {
		number, err := one(args, "line")
		if err != nil {
			return err
		}
		l, err := client.Get[apitype.AuditLine](s.ctx, s.api, at("/audit/"+url.PathEscape(number)))
		if err != nil {
			return err
		}
		return s.print(l, func() {
			s.fields(
				[2]string{"number", fmt.Sprint(l.Number)},
				[2]string{"at", l.At.Local().Format("2006-01-02 15:04:05.000 MST")},
				[2]string{"who", strings.TrimSuffix(l.Who+", "+l.Role, ", ")},
				[2]string{"from", l.From},
				[2]string{
					"how",
					l.How,
				},
				[2]string{"what", l.What},
				[2]string{"result", l.Result},
				[2]string{"why", l.Why},
			)
			for _, c := range l.Changes {
				switch text := c.After; {
				case c.Before != "":
					s.fields([2]string{c.Field, c.Before + " -> " + or(text, "none")})
				default:
					s.fields([2]string{c.Field, text})
				}
			}
			s.fields([2]string{"hash", l.Hash})
		})
	}
}

func auditHead(f *flag.FlagSet) func(*invocation, []string) error {
	at, to := nodeFlag(f), f.String("to", "", "file to write; without it, to the terminal")
	return func(s *invocation, _ []string) error {
		head, err := client.Get[chain.Head](s.ctx, s.api, at("/audit-head"))
		if err != nil {
			return err
		}
		if *to == "" {
			return s.print(head, func() {
				s.fields(
					[2]string{"line", fmt.Sprint(head.Number)},
					[2]string{"hash", head.Hash},
					[2]string{
						"at",
						head.At.Local().Format("2006-01-02 15:04:05 MST"),
					},
					[2]string{"key", head.Key},
					[2]string{"signature", head.Signature},
				)
			})
		}
		text, err := json.MarshalIndent(head, "", "  ")
		if err != nil {
			return err
		}
		if err := os.WriteFile(*to, append(text, '\n'), 0o600); err != nil {
			return err
		}
		return s.print(head, func() {
			s.say("The head, line %d, is in %s. Keep it where the service cannot change it.", head.Number, *to)
		})
	}
}

// noted reads a head that was noted before; nil without a file.
func noted(path string) (*chain.Head, error) {
	if path == "" {
		return nil, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var head chain.Head
	if err := json.Unmarshal(bytes.TrimSpace(text), &head); err != nil || head.Number == 0 {
		return nil, fmt.Errorf("%s is not a head of the audit: %w", path, errors.Join(err, chain.ErrSignature))
	}
	return &head, head.Check()
}

func verifyAudit(f *flag.FlagSet) func(*invocation, []string) error {
	at, path := nodeFlag(f), f.String("head", "", "file with a head that was noted before, to compare with")
	return func(s *invocation, args []string) error {
		head, err := noted(*path)
		if err != nil {
			return err
		}
		if len(args) == 0 {
			var out apitype.AuditVerification
			if err := s.api.Do(s.ctx, http.MethodPost, at("/audit-verify"), apitype.AuditNoted{Head: head},
				&out); err != nil {
				return err
			}
			return s.verified(out, out.Report, head)
		}
		name, err := one(args, "file")
		if err != nil {
			return err
		}
		file, err := os.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		report, err := chain.Read(file, head)
		if err != nil {
			return err
		}
		return s.verified(report, report, head)
	}
}

// verified says what a check of the audit came to.
func (s *invocation) verified(value any, r chain.Report, head *chain.Head) error {
	err := s.print(value, func() {
		for _, b := range r.Breaks {
			s.say("%s  %s", s.paint(red, "broken"), b.What)
		}
		if more := r.Broken - len(r.Breaks); more > 0 {
			s.say("%s  at %d more places", s.paint(red, "broken"), more)
		}
		if r.Broken == 0 && r.Lines > 0 {
			s.say(
				"%s  %d lines, %d to %d, are as they were recorded.",
				s.paint(green, "intact"),
				r.Lines,
				r.First,
				r.Last,
			)
		} else if r.Lines == 0 && r.Broken == 0 {
			s.say("There are no lines.")
		}
		if r.Broken == 0 && head != nil {
			s.say(
				"The head that was noted on %s, line %d, is among them.",
				head.At.Local().Format("2006-01-02 15:04"),
				head.Number,
			)
		}
	})
	if err == nil && r.Broken > 0 {
		return errFailed
	}
	return err
}
