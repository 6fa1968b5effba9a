package api

import (
	"context"
	"errors"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/apitype"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/rule"
	"tollgate.example/key/internal/wire/dict"
)

// reference are the calls that explain the words: fields, conditions, attributes, reasons.
func (s *server) reference() {
	huma.Register(s.api, operation("GET", "/fields", "list-fields", "What conditions can ask about"), func(_ context.Context, in *struct {
		Lane bool `query:"lane" doc:"Only facts of the request"`
	}) (*body[apitype.Page[rule.Field]], error) {
		out := apitype.Page[rule.Field]{Items: []rule.Field{}}
		for _, f := range rule.Fields() {
			if !in.Lane || f.Stage == rule.Request {
				out.Items = append(out.Items, f)
			}
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("POST", "/condition-check", "check-condition", "Check a condition and print it in its canonical form"), func(_ context.Context, in *struct {
		Body apitype.ConditionInput
	}) (*body[apitype.ConditionCheck], error) {
		stage := rule.Person
		if in.Body.Lane {
			stage = rule.Request
		}
		cond, err := rule.Parse(in.Body.Text, stage)
		var at *rule.Error
		if errors.As(err, &at) {
			return ok(apitype.ConditionCheck{Error: &apitype.Fault{Field: "text", Message: at.Message, Remedy: at.Remedy, Column: at.Column}}), nil
		}
		return ok(apitype.ConditionCheck{Valid: true, Canonical: cond.String()}), nil
	})
	huma.Register(s.api, operation("GET", "/dictionary", "list-dictionary", "The standard attributes"), func(context.Context, *none) (*body[apitype.Page[apitype.DictionaryEntry]], error) {
		out := apitype.Page[apitype.DictionaryEntry]{Items: []apitype.DictionaryEntry{}}
		for _, a := range dict.All() {
			e := apitype.DictionaryEntry{Type: int(a.Type), Name: a.Name, Data: a.Data.String(), Reply: a.Reply, Values: []string{}}
			for _, name := range a.Values {
				e.Values = append(e.Values, name)
			}
			slices.Sort(e.Values)
			out.Items = append(out.Items, e)
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("POST", "/pass-preview", "preview-pass", "The reply attributes of a pass as typed"), func(_ context.Context, in *struct{ Body apitype.PassFields }) (*body[apitype.PassPreview], error) {
		p := config.Pass{VLAN: in.Body.VLAN, SessionTimeout: in.Body.SessionTimeout, Role: in.Body.Role, Attributes: in.Body.Attributes}
		reply, problems := pass.Compile(&p)
		out := apitype.PassPreview{Reply: reply.Texts(), Faults: faults(problems, false)}
		if err := config.CheckVLAN(p.VLAN); err != nil {
			out.Faults = append(out.Faults, apitype.Fault{Field: "vlan", Message: err.Error()})
		}
		if out.Faults == nil {
			out.Faults = []apitype.Fault{}
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("GET", "/methods", "list-methods", "Every way to prove an identity, with what weak ones expose"), func(context.Context, *none) (*body[apitype.Page[apitype.Method]], error) {
		return ok(apitype.Page[apitype.Method]{Items: config.AllMethods()}), nil
	})
	huma.Register(s.api, operation("GET", "/reasons", "list-reasons", "Every reason with its sentence and remedy"), func(context.Context, *none) (*body[apitype.Page[reason.Entry]], error) {
		return ok(apitype.Page[reason.Entry]{Items: reason.All()}), nil
	})
}
