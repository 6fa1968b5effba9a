package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var commandLists = kind[apitype.CommandList]{
	noun: "command-list", path: "/command-lists",
	headings: []string{"NAME", "LINES", "EXTENDS", "OTHERWISE", "USED BY"},
	row: func(l apitype.CommandList) []string {
		return []string{l.Name, fmt.Sprint(len(l.Lines)), strings.Join(l.Extends, ", "), l.Otherwise,
			strings.Join(l.UsedBy, ", ")}
	},
	show: func(s *invocation, l apitype.CommandList) {
		s.fields([2]string{"name", l.Name}, [2]string{"extends", strings.Join(l.Extends, ", ")},
			[2]string{"used by", strings.Join(l.UsedBy, ", ")}, [2]string{"note", l.Note})
		trial, err := s.tryCommands(l.CommandListFields, nil)
		if err != nil {
			s.say("%v", err)
			return
		}
		s.say("")
		var rows [][]string
		for _, line := range trial.Lines {
			place := fmt.Sprint(line.Line)
			if line.List != l.Name {
				place = line.List + " " + place
			}
			rows = append(rows, []string{place, line.Verdict, line.Pattern, or(line.Example, "never decides")})
		}
		rows = append(rows, []string{"", trial.Otherwise, "otherwise", ""})
		s.table([]string{"LINE", "VERDICT", "PATTERN", "FOR INSTANCE"}, rows)
		s.lineFindings(trial)
	},
}

func (s *invocation) lineFindings(t apitype.CommandTrials) {
	for _, p := range t.Problems {
		s.say("%s: column %d: %s. %s", p.Field, p.Column, p.Message, p.Remedy)
	}
	for _, f := range t.Findings {
		s.say("%s. %s", f.Message, f.Remedy)
	}
}

func (s *invocation) tryCommands(l apitype.CommandListFields, commands []string) (apitype.CommandTrials, error) {
	var out apitype.CommandTrials
	if commands == nil {
		commands = []string{}
	}
	err := s.api.Do(s.ctx, http.MethodPost, "/command-list-trial", apitype.CommandTrialInput{CommandListFields: l,
		Commands: commands}, &out)
	return out, err
}

// readLine reads permit PATTERN or refuse PATTERN; the pattern is checked by the service.
func readLine(text string) (config.CommandLine, error) {
	verdict, pattern, _ := strings.Cut(strings.TrimSpace(text), " ")
	if verdict != string(config.PermitCommand) && verdict != string(config.RefuseCommand) {
		return config.CommandLine{}, usageError(fmt.Sprintf("%q does not begin with permit or refuse", text))
	}
	return config.CommandLine{Verdict: config.CommandVerdict(verdict), Pattern: pattern}, nil
}

type lineFlag []config.CommandLine

func (l *lineFlag) String() string { return "" }
func (l *lineFlag) Set(text string) error {
	line, err := readLine(text)
	*l = append(*l, line)
	return err
}

func commandListCommands() []command {
	return slices.Concat(commandLists.commands(), writer("command-list", "/command-lists",
		func(f *flag.FlagSet) func(map[string]bool, *apitype.CommandList, string) any {
			var lines lineFlag
			var extends list
			f.Var(&lines, "line", "\"permit PATTERN\" or \"refuse PATTERN\"; repeatable, in order, replaces "+
				"those there")
			f.Var(&extends, "extends", "list whose lines follow; repeatable, replaces those there")
			name, otherwise, note := f.String("name", "", "new name"), f.String("otherwise", "",
				"default if no line matches: permit or refuse"), f.String("text", "", "note")
			return func(was map[string]bool, old *apitype.CommandList, label string) any {
				in := apitype.CommandListFields{Lines: []config.CommandLine{}, Extends: []string{}}
				if old != nil {
					in = old.CommandListFields
				}
				in.Name = label
				assign(was, "name", &in.Name, *name)
				assign(was, "line", &in.Lines, []config.CommandLine(lines))
				assign(was, "extends", &in.Extends, []string(extends))
				assign(was, "otherwise", &in.Otherwise, *otherwise)
				assign(was, "text", &in.Note, *note)
				return in
			}
		}, func(l apitype.CommandList) (apitype.Meta, string) { return l.Meta, l.Name }), []command{
		{"command-list", "try", "NAME COMMAND...", "which line decides each command; ends with 1 on refusal",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					if len(args) < 2 {
						return usageError("give a command list, and the commands in quotes: " +
							`tollgate command-list try operators "show version"`)
					}
					l, err := client.Get[apitype.CommandList](s.ctx, s.api, "/command-lists/"+url.PathEscape(args[0]))
					if err != nil {
						return err
					}
					out, err := s.tryCommands(l.CommandListFields, args[1:])
					if err != nil {
						return err
					}
					err = s.print(out, func() {
						for _, c := range out.Commands {
							why := "no line fits"
							if c.Line > 0 {
								why = fmt.Sprintf("line %d of %s: %s", c.Line, c.List, c.Pattern)
							}
							s.say("%s  %-36s %s", s.verdict(map[string]string{"permit": "admitted",
								"refuse": "refused"}[c.Verdict]), c.Command, s.paint(faint, why))
						}
					})
					if err == nil && slices.ContainsFunc(out.Commands, func(c apitype.CommandTrial) bool {
						return c.Verdict == "refuse"
					}) {
						return errFailed
					}
					return err
				}
			}}})
}
