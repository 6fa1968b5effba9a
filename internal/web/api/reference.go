package api

import (
	"context"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/dict"
)

// reference are the calls that explain the words: fields, conditions, attributes, reasons.
func (s *server) reference() {
	s.conditions()
	huma.Register(s.api, operation("GET", "/dictionary", "list-dictionary",
		"The standard attributes, and those of the vendors of the draft"),
		func(context.Context, *none) (*body[apitype.Page[apitype.DictionaryEntry]], error) {
			return ok(apitype.Page[apitype.DictionaryEntry]{Items: dictionary(s.Revisions.Draft())}), nil
		})
	huma.Register(s.api, operation("POST", "/pass-preview", "preview-pass", "The reply attributes of a pass as typed"),
		func(_ context.Context, in *struct{ Body apitype.PassFields }) (*body[apitype.PassPreview], error) {
			return ok(s.passPreview(&in.Body)), nil
		})
	huma.Register(s.api, operation("GET", "/methods", "list-methods",
		"Every way to prove an identity, with what weak ones expose"),
		func(context.Context, *none) (*body[apitype.Page[apitype.Method]], error) {
			return ok(apitype.Page[apitype.Method]{Items: config.AllMethods()}), nil
		})
	huma.Register(s.api, operation("GET", "/reasons", "list-reasons", "Every reason with its sentence and remedy"),
		func(context.Context, *none) (*body[apitype.Page[reason.Entry]], error) {
			return ok(apitype.Page[reason.Entry]{Items: reason.All()}), nil
		})
}

func dictionary(c *config.Config) []apitype.DictionaryEntry {
	out := []apitype.DictionaryEntry{}
	add := func(a *dict.Attribute, vendor string) {
		e := apitype.DictionaryEntry{Type: int(a.Type), Place: a.Place(), Vendor: vendor, Name: a.Name,
			Data: a.Data.String(), Reply: a.Reply, Values: []string{}}
		for _, name := range a.Values {
			e.Values = append(e.Values, name)
		}
		slices.Sort(e.Values)
		out = append(out, e)
	}
	for _, a := range dict.All() {
		add(a, "")
	}
	dictionary, _ := pass.Dictionary(c.Vendors)
	for i := range c.Vendors {
		for _, a := range c.Vendors[i].Attributes {
			if entry := dictionary.ByName(a.Name); entry != nil {
				add(entry, c.Vendors[i].Name)
			}
		}
	}
	return out
}

// passPreview compiles a pass as typed, within the draft.
func (s *server) passPreview(in *apitype.PassFields) apitype.PassPreview {
	c := *s.Revisions.Draft()
	var p config.Pass
	in.Apply(&p)
	c.Passes = append(slices.DeleteFunc(slices.Clone(c.Passes), func(other *config.Pass) bool {
		return other.Name == p.Name
	}), &p)
	c.Clients, c.Lanes = nil, nil // nothing of a pass depends on them
	dictionary, _ := pass.Dictionary(c.Vendors)
	whole, _ := c.Resolve(&p)
	reply, problems := pass.Compile(&whole, dictionary, c.Vendors)
	grant, wrong := pass.CompileGrant(&whole)
	problems = append(problems, wrong...)
	seen := map[string]bool{}
	for _, problem := range problems {
		seen[problem.Field] = true
	}
	for _, problem := range c.Check() {
		if problem.Kind == "pass" && problem.Object == p.Name && problem.Field != "name" && !problem.Warning &&
			!seen[problem.Field] {
			problems = append(problems, problem)
		}
	}
	out := apitype.PassPreview{Reply: reply.Texts(), Gear: grant.Texts(), Faults: faults(problems, false)}
	if out.Faults == nil {
		out.Faults = []apitype.Fault{}
	}
	return out
}
