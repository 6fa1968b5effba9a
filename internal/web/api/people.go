package api

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) people() {
	huma.Register(s.api, operation("GET", "/directories/{ref}/people/{name}", "find-person",
		"Look one person up with name forms, groups, attributes, state, and what the draft would give"),
		func(ctx context.Context, in *struct {
			OneInput
			Name string `path:"name" maxLength:"200"`
		}) (*body[apitype.Found], error) {
			d, cfg, err := s.directory(in.Ref)
			if err != nil {
				return nil, err
			}
			d.Forget(in.Name) // whoever asks wants to know how it is now
			person, code, detail := d.Find(ctx, in.Name)
			out := apitype.Found{Person: person, Reason: string(code), Names: []string{},
				Memberships: []results.Membership{}, Prospects: []results.Prospect{}}
			values := map[string]string{"name": in.Name, "store": d.Name(), "stores": d.Name(), "detail": detail,
				"realm": realmOf(s.Revisions.Draft(), d.Name())}
			if code != reason.OK {
				out.Text, out.Remedy = reason.Explain(code, values)
				return ok(out), nil
			}
			values["person"] = person.Label()
			out.Reason = string(person.State)
			if person.State != reason.OK {
				out.Text, out.Remedy = reason.Explain(person.State, values)
			}
			draft := s.Revisions.Draft()
			out.Names = nameForms(draft, cfg.Name, person)
			if plan := s.Revisions.CompiledDraft().Plan; plan != nil {
				out.Prospects = plan.Prospects(person)
			} else {
				out.Problem = "The draft cannot be published as it is, so it is not known what it would give."
			}
			if out.Memberships, err = d.Memberships(ctx, person.ID); err != nil {
				out.Problem = strings.TrimSpace(out.Problem + " " + err.Error())
				out.Memberships = []results.Membership{}
			}
			return ok(out), nil
		})
}

// heldBack registers what the lockout guard holds back.
func (s *server) heldBack() {
	huma.Register(s.api, operation("GET", "/directories/{ref}/held", "list-held-back",
		"People of a directory in use whose passwords are held back, so that it does not lock them"),
		func(ctx context.Context, in *OneInput) (*body[apitype.HeldBack], error) {
			cfg, err := s.inUse(in.Ref)
			if err != nil {
				return nil, err
			}
			d := s.Gate.Current().Directory(cfg.Name)
			limits := d.Guard(ctx)
			rule, _ := d.Lockout(ctx)
			return ok(apitype.HeldBack{Items: s.Gate.Lockout.List(d.Name(), time.Now()), After: limits.After,
				Threshold: rule.Threshold, Minutes: int(limits.Window.Minutes())}), nil
		})
	huma.Register(s.api, operation("POST", "/directories/{ref}/release", "release-held-back",
		"Pass the passwords of somebody on again, who was held back"), func(_ context.Context, in *struct {
		OneInput
		Body apitype.ReleaseInput
	}) (*body[apitype.Forgotten], error) {
		d, err := s.inUse(in.Ref)
		if err != nil {
			return nil, err
		}
		return ok(apitype.Forgotten{People: s.Gate.Lockout.Release(d.Name, in.Body.Person)}), nil
	})
}

// realmOf names a realm that looks into a store.
func realmOf(c *config.Config, store string) string {
	for i := range c.Realms {
		for _, l := range c.Realms[i].Lookup {
			if strings.EqualFold(l.Store, store) {
				return c.Realms[i].Name
			}
		}
	}
	return "(none looks here yet)"
}

// nameForms are the names by which somebody can sign in, by the realms that look into the store.
func nameForms(c *config.Config, store string, person *facts.Person) []string {
	out := []string{}
	for i := range c.Realms {
		for _, l := range c.Realms[i].Lookup {
			if !strings.EqualFold(l.Store, store) {
				continue
			}
			for _, form := range c.Realms[i].Forms {
				switch form.Kind {
				case config.Bare:
					out = append(out, person.Name)
				case config.Prefix:
					out = append(out, form.Value+`\`+person.Name)
				case config.Suffix:
					out = append(out, person.Name+"@"+form.Value)
				}
			}
		}
	}
	return out
}
