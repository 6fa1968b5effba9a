package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/provider"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) operatorCalls() {
	huma.Register(s.api, operation("GET", "/operators", "list-operators", "People who administer Tollgate Key"),
		func(ctx context.Context, _ *none) (*body[apitype.Page[apitype.Operator]], error) {
			list, err := s.Store.Operators(ctx)
			if err != nil {
				return nil, err
			}
			out := apitype.Page[apitype.Operator]{Items: []apitype.Operator{}}
			for _, o := range list {
				out.Items = append(out.Items, apitype.Operator{ID: o.ID, Name: o.Name, Role: o.Role,
					Created: time.UnixMilli(o.CreatedAt), Source: o.Source, Seen: moment(o.SeenAt),
					Clients: strings.Fields(o.Limits), SecondFactor: s.Operators.Enrolled(o.Name),
					Lacking: s.Operators.Needs(operator.Role(o.Role)) && o.Source == "" &&
						!s.Operators.Enrolled(o.Name)})
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("POST", "/operators", "add-operator", "Add an operator"), func(ctx context.Context,
		in *struct {
			Body apitype.OperatorInput
		}) (*struct{}, error) {
		role, err := operator.ParseRole(in.Body.Role)
		if err == nil {
			audit.Of(ctx).On("operator", "", in.Body.Name).Say(fmt.Sprintf("added operator %s as %s", in.Body.Name,
				role)).From(nil, apitype.RoleInput{Role: string(role)})
			err = s.Operators.Add(ctx, in.Body.Name, in.Body.Password, role)
		}
		if err != nil {
			return nil, operatorProblem(err)
		}
		return nil, nil
	})
	huma.Register(s.api, operation(
		"PUT",
		"/operators/{ref}",
		"change-operator",
		"Give an operator another role, or limit it to clients with tags, at once; the last owner stays one",
	), func(ctx context.Context, in *struct {
		Ref  string `path:"ref" maxLength:"100" doc:"Name or identifier"`
		Body apitype.RoleInput
	}) (*struct{}, error) {
		role, err := operator.ParseRole(in.Body.Role)
		if err == nil {
			s.noteOperator(ctx, in.Ref, apitype.RoleInput{Role: string(role), Clients: in.Body.Clients})
			err = s.Operators.Set(ctx, in.Ref, role, in.Body.Clients)
		}
		if err != nil {
			return nil, operatorProblem(err)
		}
		return nil, nil
	})
	huma.Register(s.api, operation("DELETE", "/operators/{ref}", "remove-operator",
		"Remove an operator with all sessions and tokens, but never the last owner"), func(ctx context.Context,
		in *struct {
			Ref string `path:"ref" maxLength:"100" doc:"Name or identifier"`
		}) (*struct{}, error) {
		s.noteOperator(ctx, in.Ref, nil)
		if err := s.Operators.Remove(ctx, in.Ref); err != nil {
			return nil, operatorProblem(err)
		}
		return nil, nil
	})
	huma.Register(s.api, operation("DELETE", "/operators/{ref}/factor", "remove-operator-factor",
		"Remove the second factor of an operator who has lost it"), func(ctx context.Context, in *struct {
		Ref string `path:"ref" maxLength:"100" doc:"Name"`
	}) (*struct{}, error) {
		audit.Of(ctx).On("operator", "", in.Ref).Say("removed the second factor of operator " + in.Ref)
		if err := s.Operators.RemoveFactor(ctx, in.Ref); err != nil {
			return nil, operatorProblem(err)
		}
		return nil, nil
	})
	s.operatorSettings()
	s.operatorSessions()
	s.oneself()
	s.providerCalls()
}

// noteOperator says which operator a call is about, and what becomes of the role; nil is nothing.
func (s *server) noteOperator(ctx context.Context, ref string, after any) {
	list, err := s.Store.Operators(ctx)
	if err != nil {
		return // the call itself says so
	}
	for _, o := range list {
		if o.ID != ref && !strings.EqualFold(o.Name, ref) {
			continue
		}
		e := audit.Of(ctx).
			On("operator", o.ID, o.Name).
			From(apitype.RoleInput{Role: o.Role, Clients: strings.Fields(o.Limits)},
				after)
		if role, changes := after.(apitype.RoleInput); changes {
			text := fmt.Sprintf("made operator %s %s, who was %s", o.Name, role.Role, o.Role)
			if len(role.Clients) > 0 {
				text += ", for clients with " + strings.Join(role.Clients, " ")
			}
			e.Say(text)
		} else {
			e.Say("removed operator " + o.Name)
		}
	}
}

// operatorSettings are the calls about how operators sign in.
func (s *server) operatorSettings() {
	view := func(o operator.Settings) apitype.OperatorSettings {
		out := apitype.OperatorSettings{SecondFactor: texts(o.SecondFactor), IdleMinutes: o.IdleMinutes,
			LastHours: o.LastHours, FourEyes: o.FourEyes, Groups: groupsView(o.Groups)}
		if p := o.Provider; p != nil {
			out.Provider = &apitype.Provider{Issuer: p.Issuer, ClientID: p.ClientID, Label: p.Label, CA: p.CA,
				Console: p.Console, NameClaim: p.NameClaim, GroupsClaim: p.GroupsClaim, Scopes: p.Scopes,
				Groups:    groupsView(p.Groups),
				SecretSet: p.Secret.Set(), Back: p.Console + provider.CallbackPath}
		}
		out.Tag = revision.Tag(out)
		return out
	}
	huma.Register(s.api, operation("GET", "/operator-settings", "get-operator-settings",
		"How operators sign in, and what needs two of them"), func(context.Context, *none) (
		*tagged[apitype.OperatorSettings], error) {
		out := view(s.Operators.Settings())
		return &tagged[apitype.OperatorSettings]{out.Tag, out}, nil
	})
	huma.Register(s.api, operation(
		"PUT",
		"/operator-settings",
		"change-operator-settings",
		"Say how operators sign in, and what needs two of them; it counts at once",
	), func(ctx context.Context, in *struct {
		MatchInput
		Body apitype.OperatorSettings
	}) (*tagged[apitype.OperatorSettings], error) {
		before := s.Operators.Settings()
		if in.IfMatch != "*" && in.IfMatch != view(before).Tag {
			return nil, problem(http.StatusPreconditionFailed, "the settings were changed meanwhile",
				"Read them again and repeat your change.")
		}
		b := &in.Body
		next := operator.Settings{SecondFactor: []operator.Role{}, IdleMinutes: b.IdleMinutes, LastHours: b.LastHours,
			FourEyes: b.FourEyes, Groups: groupsOf(b.Groups)}
		for _, role := range b.SecondFactor {
			next.SecondFactor = append(next.SecondFactor, operator.Role(role))
		}
		if p := b.Provider; p != nil {
			next.Provider = &operator.Provider{Issuer: p.Issuer, ClientID: p.ClientID, Label: p.Label, CA: p.CA,
				Console: p.Console, NameClaim: p.NameClaim, GroupsClaim: p.GroupsClaim, Scopes: p.Scopes,
				Groups: groupsOf(p.Groups)}
			switch old := before.Provider; {
			case p.Secret != "":
				next.Provider.Secret = s.Box.Seal(next.Provider.SecretPlace(), p.Secret)
			case old != nil && old.Issuer == p.Issuer: // a secret goes to whom it was given for alone
				next.Provider.Secret = old.Secret
			}
		}
		for i, g := range next.Groups {
			if s.Gate.Current().Directory(g.Directory) == nil {
				return nil, faulty(fmt.Sprintf("groups[%d].directory", i), fmt.Sprintf("no directory %q is in use",
					g.Directory), "Name one that is published.")
			}
		}
		from, to := view(before), view(next)
		from.Tag, to.Tag = "", ""
		e := audit.Of(ctx).On("operator-settings", "", "").Say("changed how operators sign in").From(from, to)
		if b.Provider != nil && b.Provider.Secret != "" {
			e.Also("provider.secret", "set")
		}
		if err := s.Operators.SetSettings(ctx, next); err != nil {
			return nil, operatorProblem(err)
		}
		out := view(s.Operators.Settings())
		return &tagged[apitype.OperatorSettings]{out.Tag, out}, nil
	})
}

// operatorSessions are the calls about the browser sessions of operators.
func (s *server) operatorSessions() {
	huma.Register(s.api, operation("GET", "/operator-sessions", "list-operator-sessions",
		"Browser sessions: one's own, for an owner those of all"), func(ctx context.Context, _ *none) (
		*body[apitype.Page[apitype.OperatorSession]], error) {
		keys, err := s.Store.Keys(ctx, "session")
		if err != nil {
			return nil, err
		}
		out := apitype.Page[apitype.OperatorSession]{Items: []apitype.OperatorSession{}}
		w := who(ctx)
		for _, k := range keys {
			if k.Operator != w.ID && !w.May(operator.Own) || time.Now().UnixMilli() >= k.ExpiresAt {
				continue
			}
			out.Items = append(out.Items, apitype.OperatorSession{ID: k.ID, Operator: k.Holder, From: k.Address,
				Agent: k.Agent, Begun: time.UnixMilli(k.CreatedAt), Used: time.UnixMilli(k.UsedAt),
				Until: time.UnixMilli(k.ExpiresAt), Last: moment(k.LastAt), Own: k.ID == w.KeyID, Factor: k.Factor})
		}
		return ok(out), nil
	})
	huma.Register(
		s.api,
		operation("DELETE", "/operator-sessions/{id}", "end-operator-session", "End a browser session"),
		func(ctx context.Context, in *struct {
			ID string `path:"id" maxLength:"20"`
		}) (*struct{}, error) {
			keys, err := s.Store.Keys(ctx, "session")
			if err != nil {
				return nil, err
			}
			w := who(ctx)
			for _, k := range keys {
				if k.ID == in.ID && (k.Operator == w.ID || w.May(operator.Own)) {
					audit.Of(ctx).On("operator", k.Operator, k.Holder).Say("ended a session of " + k.Holder)
					return nil, missing(s.Store.RemoveKey(ctx, k.ID), "session")
				}
			}
			return nil, problem(http.StatusNotFound, "there is no such session of yours", "")
		},
	)
}

func texts(roles []operator.Role) []string {
	out := []string{}
	for _, role := range roles {
		out = append(out, string(role))
	}
	return out
}

func groupsView(list []operator.GroupRole) []apitype.GroupRole {
	out := []apitype.GroupRole{}
	for _, g := range list {
		out = append(out, apitype.GroupRole{Directory: g.Directory, Group: g.Group, Role: string(g.Role)})
	}
	return out
}

func groupsOf(list []apitype.GroupRole) []operator.GroupRole {
	out := []operator.GroupRole{}
	for _, g := range list {
		out = append(out, operator.GroupRole{Directory: g.Directory, Group: g.Group, Role: operator.Role(g.Role)})
	}
	return out
}
