package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) accounts() {
	huma.Register(s.api, operation("GET", "/accounts", "list-accounts", "Local accounts"), func(_ context.Context,
		in *ListInput) (*body[apitype.Page[apitype.Account]], error) {
		list, more := s.Accounts.Page(in.Query, in.After, in.Limit)
		out := apitype.Page[apitype.Account]{Items: []apitype.Account{}}
		for _, a := range list {
			out.Items = append(out.Items, accountView(a))
		}
		if more {
			out.Next = list[len(list)-1].ID
		}
		return ok(out), nil
	})
	big := operation("POST", "/account-import", "import-accounts", "Import local accounts from CSV, with a report on "+
		"every line")
	big.MaxBodyBytes = maxFile
	huma.Register(s.api, big, func(ctx context.Context, in *struct {
		Body apitype.Sheet
	}) (*body[apitype.SheetReport], error) {
		now := time.Now()
		imports(ctx, "account", &in.Body)
		report, err := s.Accounts.Import(ctx, in.Body.CSV, in.Body.Check, in.Body.Partial, who(ctx).Name, s.newID, now)
		if err != nil {
			return nil, accountProblem(err)
		}
		return ok(report), nil
	})
	huma.Register(s.api, operation("GET", "/account-import", "get-account-import",
		"How many passwords of an import are still to be hashed"),
		func(context.Context, *none) (*body[apitype.Hashing], error) {
			return ok(apitype.Hashing{Left: s.Accounts.Unhashed()}), nil
		})
	huma.Register(s.api, operation("GET", "/accounts/{ref}", "get-account", "Show one local account"),
		func(_ context.Context, in *OneInput) (*tagged[apitype.Account], error) {
			a := s.Accounts.Get(in.Ref)
			if a == nil {
				return nil, problem(http.StatusNotFound, "there is no local account "+in.Ref, "")
			}
			view := accountView(a)
			return &tagged[apitype.Account]{view.Tag, view}, nil
		})
	huma.Register(s.api, operation("POST", "/accounts", "add-account", "Add a local account; it takes effect at once"),
		func(ctx context.Context, in *struct {
			Body apitype.AccountInput
		}) (*tagged[apitype.Account], error) {
			if p := emergency(ctx, in.Body.Emergency); p != nil {
				return nil, p
			}
			return s.saveAccount(ctx, s.IDs.New(time.Now()).String(), &in.Body)
		})
	huma.Register(s.api, operation("PUT", "/accounts/{ref}", "change-account",
		"Replace a local account; it takes effect at once"), func(ctx context.Context, in *struct {
		OneInput
		MatchInput
		Body apitype.AccountInput
	}) (*tagged[apitype.Account], error) {
		a := s.Accounts.Get(in.Ref)
		if a == nil {
			return nil, problem(http.StatusNotFound, "there is no local account "+in.Ref, "")
		}
		if p := emergency(ctx, a.Emergency, in.Body.Emergency); p != nil {
			return nil, p
		}
		if in.IfMatch != "*" && in.IfMatch != accountView(a).Tag {
			return nil, problem(http.StatusPreconditionFailed, "the account was changed meanwhile by "+a.ChangedBy,
				"Read it again and repeat your change.")
		}
		return s.saveAccount(ctx, a.ID, &in.Body)
	})
	huma.Register(s.api, operation("DELETE", "/accounts/{ref}", "remove-account",
		"Remove a local account; it takes effect at once"), func(ctx context.Context, in *OneInput) (*struct{}, error) {
		a := s.Accounts.Get(in.Ref)
		if a == nil {
			return nil, problem(http.StatusNotFound, "there is no local account "+in.Ref, "")
		}
		if p := emergency(ctx, a.Emergency); p != nil {
			return nil, p
		}
		audit.Of(ctx).On("account", a.ID, a.Name).Say("removed account "+a.Name).From(accountView(a).AccountFields, nil)
		err := s.Accounts.Remove(ctx, a.ID)
		s.Follower.Soon(a.Name)
		return nil, missing(err, "local account")
	})
}

// imports says what is imported from a file; nothing is recorded of one that is only looked at.
func imports(ctx context.Context, kind string, in *apitype.Sheet) {
	e := audit.Of(ctx).On(kind, "", "").Say(fmt.Sprintf("imported %ss from a file of %d lines", kind,
		strings.Count(strings.TrimSpace(in.CSV), "\n")+1))
	if in.Check {
		e.Skip()
		return
	}
	var named []audit.Change
	for i, line := range strings.Split(in.CSV, "\n") {
		if name, _, _ := strings.Cut(strings.ReplaceAll(line, ",", ";"), ";"); i > 0 && strings.TrimSpace(name) != "" {
			named = append(named, audit.Change{Field: strings.Trim(strings.TrimSpace(name), `"`), After: "in the file"})
		}
	}
	e.Listed(named, nil, nil)
}

// emergency refuses those who may change people but no configuration an emergency account: it opens gear while nothing
// else is asked. Given are the conditions that it had and is to have.
func emergency(ctx context.Context, conditions ...string) error {
	w := who(ctx)
	if w.May(operator.Configure) || strings.Join(conditions, "") == "" {
		return nil
	}
	p := forbidden(w, operator.Configure)
	p.Detail = "an emergency account: " + p.Detail
	return p
}

func (s *server) saveAccount(ctx context.Context, id string, in *apitype.AccountInput) (*tagged[apitype.Account],
	error) {
	a := account.Account{ID: id, Name: in.Name, Display: in.Display, Mail: in.Mail, Groups: in.Groups,
		Enabled: in.Enabled, Keeps: config.Keeps(in.Keeps), Emergency: in.Emergency, ChangedAt: time.Now(),
		ChangedBy: who(ctx).Name}
	if in.Expires != nil {
		a.Expires = *in.Expires
	}
	e := audit.Of(ctx).On("account", id, in.Name)
	if before := s.Accounts.Get(id); before != nil {
		e.Say("changed account "+in.Name).From(accountView(before).AccountFields, in.AccountFields)
	} else {
		e.Say("added account "+in.Name).From(nil, in.AccountFields)
	}
	if in.Password != "" {
		e.Also("password", "set")
	}
	saved, err := s.Accounts.Save(ctx, a, in.Password)
	if err != nil {
		return nil, accountProblem(err)
	}
	s.Follower.Soon(saved.Name)
	view := accountView(saved)
	return &tagged[apitype.Account]{view.Tag, view}, nil
}

func accountProblem(err error) error {
	var field *account.FieldError
	if errors.As(err, &field) {
		return problem(http.StatusUnprocessableEntity, "Not saved. Correct the fields marked below.", "",
			apitype.Fault{Field: field.Field, Message: field.Message, Remedy: field.Remedy})
	}
	return err
}

func accountView(a *account.Account) apitype.Account {
	out := apitype.Account{ID: a.ID, ChangedAt: a.ChangedAt, ChangedBy: a.ChangedBy,
		AccountFields: apitype.AccountFields{Name: a.Name, Display: a.Display, Mail: a.Mail, Groups: a.Groups,
			Enabled: a.Enabled, Keeps: string(a.Keeps), Emergency: a.Emergency},
		OpenedOn: a.OpenedOn, Uses: a.Uses}
	if !a.OpenedAt.IsZero() {
		out.OpenedAt = &a.OpenedAt
	}
	if !a.Expires.IsZero() {
		out.Expires = &a.Expires
	}
	out.Tag = revision.Tag(out)
	return out
}
