package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/command"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
)

// commandLists registers the command lists.
func (s *server) commandLists() {
	register(s, &kind[config.CommandList, *config.CommandList, apitype.CommandListFields, apitype.CommandList]{
		name: "command-list", plural: "command-lists",
		list: func(c *config.Config) *[]*config.CommandList { return &c.CommandLists },
		apply: func(_ *config.Config, l *config.CommandList, in *apitype.CommandListFields) (string, error) {
			applyCommandList(l, in)
			return "", nil
		},
		text: func(l *config.CommandList) string { return l.Name + " " + fmt.Sprint(l.Lines) },
		views: func(c *config.Config) func(*config.CommandList, apitype.Meta) apitype.CommandList {
			uses := map[string][]string{}
			for i := range c.Passes {
				if key := strings.ToLower(c.Passes[i].Commands); key != "" {
					uses[key] = append(uses[key], "pass "+c.Passes[i].Name)
				}
			}
			for i := range c.CommandLists {
				for _, base := range c.CommandLists[i].Extends {
					uses[strings.ToLower(base)] = append(uses[strings.ToLower(base)], "list "+c.CommandLists[i].Name)
				}
			}
			return func(l *config.CommandList, m apitype.Meta) apitype.CommandList {
				out := apitype.CommandList{Meta: m, UsedBy: []string{},
					CommandListFields: apitype.CommandListFields{Name: l.Name, Lines: l.Lines, Extends: l.Extends,
						Otherwise: string(l.Otherwise), Note: l.Note}}
				if list := uses[strings.ToLower(l.Name)]; list != nil {
					out.UsedBy = list
				}
				if whole, err := c.WholeList(l); err == nil {
					out.Whole = len(whole.Lines)
				}
				return out
			}
		},
	})
	huma.Register(s.api, operation("POST", "/command-list-trial", "try-commands",
		"Which lines of a command list, as it is being typed, decide commands; nothing is saved"),
		func(_ context.Context, in *struct {
			Body apitype.CommandTrialInput
		}) (*body[apitype.CommandTrials], error) {
			return ok(s.tryCommands(&in.Body)), nil
		})
}

func applyCommandList(l *config.CommandList, in *apitype.CommandListFields) {
	l.Name, l.Lines, l.Extends, l.Otherwise, l.Note = in.Name, in.Lines, in.Extends,
		config.CommandVerdict(in.Otherwise), in.Note
}

var verdicts = map[bool]string{true: "permit", false: "refuse"}

// tryCommands decides commands with a list among those of the draft.
func (s *server) tryCommands(in *apitype.CommandTrialInput) apitype.CommandTrials {
	c := *s.Revisions.Draft()
	var typed config.CommandList
	applyCommandList(&typed, &in.CommandListFields)
	c.CommandLists = slices.DeleteFunc(slices.Clone(c.CommandLists), func(l *config.CommandList) bool {
		return strings.EqualFold(l.Name, typed.Name)
	})
	c.CommandLists = append(c.CommandLists, &typed)
	out := apitype.CommandTrials{Commands: []apitype.CommandTrial{}, Lines: []apitype.WholeLine{},
		Findings: []results.Finding{}, Problems: []apitype.Fault{}}
	for i, line := range typed.Lines {
		var at *command.Error
		if _, err := command.Parse(line.Pattern); errors.As(err, &at) {
			out.Problems = append(out.Problems, apitype.Fault{Field: fmt.Sprintf("lines[%d].pattern", i),
				Message: at.Message, Remedy: at.Remedy, Column: at.Column})
		}
	}
	whole, err := c.WholeList(&typed)
	if err != nil {
		out.Problems = append(out.Problems, apitype.Fault{Field: "extends", Message: err.Error(),
			Remedy: "Choose other lists to extend, or none."})
	}
	out.Otherwise = verdicts[whole.Otherwise]
	for _, text := range in.Commands {
		words := command.Words(text)
		if len(words) == 0 {
			continue
		}
		at, permit := whole.Decide(words)
		t := apitype.CommandTrial{Command: strings.Join(words, " "), Verdict: verdicts[permit]}
		if at >= 0 {
			t.List, t.Line, t.Pattern = whole.Lines[at].List, whole.Lines[at].Number, whole.Lines[at].Pattern.String()
		}
		out.Commands = append(out.Commands, t)
	}
	for _, f := range whole.Analyse() {
		line := whole.Lines[f.Line]
		out.Lines = append(out.Lines, apitype.WholeLine{Verdict: verdicts[line.Permit], Pattern: line.Pattern.String(),
			List: line.List, Line: line.Number, Example: f.Example})
		if f.Taken != nil && line.List == typed.Name {
			out.Findings = append(out.Findings, decide.LineFinding(results.Finding{Kind: "command-list",
				Object: typed.Name}, whole, f))
		}
	}
	return out
}
