package api

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/rule"
	"tollgate.example/key/internal/web/apitype"
)

// conditions are the calls with which conditions are written.
func (s *server) conditions() {
	huma.Register(s.api, operation("GET", "/fields", "list-fields", "What conditions can ask about"),
		func(_ context.Context, in *struct {
			Lane bool `query:"lane" doc:"Only facts of the request"`
		}) (*body[apitype.Page[apitype.Field]], error) {
			out := apitype.Page[apitype.Field]{Items: []apitype.Field{}}
			for _, f := range rule.Fields() {
				if in.Lane && f.Stage != rule.Request {
					continue
				}
				view := apitype.Field{Name: f.Name, Type: string(f.Type), Help: f.Help, Examples: f.Examples,
					Closed: f.Closed,
					Lane:   f.Stage == rule.Request, Operators: []string{}}
				for _, op := range f.Operators() {
					view.Operators = append(view.Operators, string(op))
				}
				out.Items = append(out.Items, view)
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("POST", "/condition-check", "check-condition",
		"Check a condition, given as text or as a tree, and print it in its canonical form and as a tree"),
		func(_ context.Context, in *struct {
			Body apitype.ConditionInput
		}) (*body[apitype.ConditionCheck], error) {
			return ok(s.checkCondition(&in.Body)), nil
		})
	huma.Register(s.api, operation("GET", "/completions", "list-completions",
		"Values that a field of conditions may have, as far as they are known"), func(_ context.Context, in *struct {
		Field string `query:"field" required:"true" maxLength:"200"`
		Query string `query:"q" maxLength:"200" doc:"Part of the value"`
	}) (*body[apitype.Page[apitype.Completion]], error) {
		return ok(apitype.Page[apitype.Completion]{Items: s.completions(in.Field, in.Query)}), nil
	})
}

func (s *server) checkCondition(in *apitype.ConditionInput) apitype.ConditionCheck {
	stage, text := rule.Person, in.Text
	if in.Lane {
		stage = rule.Request
	}
	if in.Tree != nil {
		written, err := rule.TextOf(in.Tree)
		if err != nil {
			return apitype.ConditionCheck{Error: &apitype.Fault{Field: "tree", Message: err.Error()}}
		}
		text = written
	}
	cond, err := rule.Parse(text, stage, calendars(s.Revisions.Draft()))
	var at *rule.Error
	if errors.As(err, &at) {
		return apitype.ConditionCheck{Error: &apitype.Fault{Field: "text", Message: at.Message, Remedy: at.Remedy,
			Column: at.Column}}
	}
	tree := cond.Tree()
	return apitype.ConditionCheck{Valid: true, Canonical: cond.String(), Tree: &tree}
}

// calendars finds the calendars of a configuration.
func calendars(c *config.Config) rule.Calendars {
	return func(name string) *calendar.Calendar {
		one, at := config.Find(c.Calendars, name)
		if at < 0 {
			return nil
		}
		made, _ := one.Compile()
		return made
	}
}

const maxCompletions = 50

// completions lists values of a field that are known from somewhere, those that begin with the query first.
func (s *server) completions(field, query string) []apitype.Completion {
	out := []apitype.Completion{}
	seen := map[string]bool{}
	lower := strings.ToLower(query)
	add := func(from string, values ...string) {
		for _, value := range values {
			if key := strings.ToLower(value); value != "" && !seen[key] && strings.Contains(key, lower) {
				seen[key] = true
				out = append(out, apitype.Completion{Value: value, From: from})
			}
		}
	}
	c := s.Revisions.Draft()
	for _, f := range rule.Fields() {
		if f.Name == field {
			add("", f.Examples...)
		}
	}
	s.knownValues(c, strings.ToLower(field), add)
	for i := range c.Lanes {
		lane := c.Lanes[i]
		texts := []string{lane.When}
		for _, p := range lane.Policies {
			texts = append(texts, p.When)
		}
		for _, text := range texts {
			if cond, err := rule.Parse(text, rule.Person, nil); err == nil {
				add("lane "+lane.Name, cond.Uses()[field]...)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b apitype.Completion) int {
		return cmp.Compare(begins(b.Value, lower), begins(a.Value, lower))
	})
	return out[:min(len(out), maxCompletions)]
}

func begins(value, lower string) int {
	if strings.HasPrefix(strings.ToLower(value), lower) {
		return 1
	}
	return 0
}

// knownValues adds the values that a field has in the draft and in the records.
func (s *server) knownValues(c *config.Config, field string, add func(from string, values ...string)) {
	switch {
	case field == "group" || field == "machine.group":
		for i := range c.Directories {
			for _, g := range c.Directories[i].Groups {
				add("picked in "+c.Directories[i].Name, g.Name)
			}
		}
		for _, a := range s.Accounts.List("") {
			add("local account "+a.Name, a.Groups...)
		}
		for i := range c.Lanes {
			for _, p := range c.Lanes[i].Policies {
				for _, row := range p.Groups {
					add("lane "+c.Lanes[i].Name, row.Group)
				}
			}
		}
	case field == "time":
		for i := range c.Calendars {
			add("calendar", c.Calendars[i].Name)
		}
	case field == "store":
		add("", config.LocalStore, config.DeviceStore)
		for i := range c.Directories {
			add("directory", c.Directories[i].Name)
		}
	case field == "client":
		for i := range c.Clients {
			add("client", c.Clients[i].Name)
		}
	case field == "client.address":
		for i := range c.Clients {
			add("client "+c.Clients[i].Name, c.Clients[i].Addresses...)
		}
	case strings.HasPrefix(field, "client."):
		for i := range c.Clients {
			add("client "+c.Clients[i].Name, c.Clients[i].Tags[strings.TrimPrefix(field, "client.")])
		}
	case field == "device" || strings.HasPrefix(field, "device."):
		for _, d := range s.Gate.Devices.List("") {
			switch key := strings.TrimPrefix(field, "device."); key {
			case "device":
				add("device", d.Name)
			case "owner":
				add("device "+d.Name, d.Owner)
			default:
				add("device "+d.Name, d.Tags[key])
			}
		}
	case field == "name.realm":
		for i := range c.Realms {
			for _, form := range c.Realms[i].Forms {
				add("realm "+c.Realms[i].Name, form.Value)
			}
		}
	}
}
