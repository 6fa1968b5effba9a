package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// From carries the remote address into a call.
type From struct{ remote string }

// Resolve implements huma.Resolver.
func (f *From) Resolve(ctx huma.Context) []error {
	f.remote = remote(ctx)
	return nil
}

type withCookie[T any] struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      T
}

type onlyCookie struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

// cookie makes the session cookie. Secure cookies also work over plain HTTP on loopback addresses, and plain HTTP is
// served nowhere else.
func cookie(value string, age time.Duration) http.Cookie {
	return http.Cookie{Name: sessionName, Value: value, Path: "/", HttpOnly: true, Secure: true,
		SameSite: http.SameSiteStrictMode, MaxAge: int(age / time.Second)}
}

func (s *server) sessions() {
	open := func(op huma.Operation) huma.Operation {
		op.Security = []map[string][]string{}
		return op
	}
	huma.Register(s.api, open(operation("GET", "/about", "about", "What is running, and who is signed in")),
		func(ctx context.Context, _ *none) (*body[apitype.About], error) {
			out := apitype.About{Version: s.Version, SetupNeeded: s.Operators.SetupCode() != ""}
			if w := who(ctx); w.Name != "" {
				out.Operator, out.Role, out.Rights = w.Name, string(w.Role), w.Rights()
				_, out.Revision = s.Revisions.Running()
				out.Changes = s.Revisions.Changes().Count()
			}
			return ok(out), nil
		})
	huma.Register(s.api, open(operation("POST", "/setup", "set-up", "Create the first operator with the setup code")),
		func(ctx context.Context, in *struct {
			From
			Body apitype.SetupInput
		}) (*withCookie[apitype.SignedIn], error) {
			audit.Of(ctx).By(in.Body.Name, string(operator.Owner)).On("operator", "", in.Body.Name).Say(
				"created the first operator, " + in.Body.Name)
			if err := s.Operators.SetUp(ctx, in.remote, in.Body.Code, in.Body.Name, in.Body.Password); err != nil {
				return nil, operatorProblem(err)
			}
			return s.signIn(ctx, in.remote, apitype.SignInInput{Name: in.Body.Name, Password: in.Body.Password})
		})
	huma.Register(s.api, open(operation("POST", "/sign-in", "sign-in", "Sign in, for a browser or for a token")),
		func(ctx context.Context, in *struct {
			From
			Body apitype.SignInInput
		}) (*withCookie[apitype.SignedIn], error) {
			return s.signIn(ctx, in.remote, in.Body)
		})
	huma.Register(s.api, operation("POST", "/sign-out", "sign-out", "End this session or token"),
		func(ctx context.Context, _ *none) (*onlyCookie, error) {
			if err := s.Store.RemoveKey(ctx, who(ctx).KeyID); err != nil {
				return nil, err
			}
			return &onlyCookie{cookie("", -time.Second)}, nil
		})
	s.tokens()
	s.operatorCalls()
}

func (s *server) signIn(ctx context.Context, remote string, in apitype.SignInInput) (*withCookie[apitype.SignedIn],
	error) {
	e := audit.Of(ctx).By(in.Name, "").Say("signed in")
	if in.TokenName != "" {
		e.Say("signed in, with a new token " + in.TokenName)
	}
	bearer, err := s.Operators.SignIn(ctx, remote, in.Name, in.Password, in.TokenName)
	if err != nil {
		s.Audit.Refused(ctx, e.Skip().Because(err.Error()))
		return nil, operatorProblem(err)
	}
	out := &withCookie[apitype.SignedIn]{Body: apitype.SignedIn{Operator: in.Name}}
	if in.TokenName != "" {
		out.Body.Token = bearer
		out.SetCookie = cookie("", -time.Second)
		return out, nil
	}
	out.SetCookie = cookie(bearer, 30*24*time.Hour)
	return out, nil
}

func operatorProblem(err error) error {
	switch {
	case errors.Is(err, operator.ErrWrong):
		return problem(http.StatusUnauthorized, err.Error(), "")
	case errors.Is(err, operator.ErrTooMany):
		return huma.ErrorWithHeaders(problem(http.StatusTooManyRequests, err.Error(), ""),
			http.Header{"Retry-After": {"10"}})
	case errors.Is(err, operator.ErrSetUp):
		return problem(http.StatusConflict, err.Error(), "")
	case errors.Is(err, operator.ErrCode):
		return problem(http.StatusUnprocessableEntity, err.Error(), "", apitype.Fault{Field: "code",
			Message: err.Error()})
	case errors.Is(err, operator.ErrPassword):
		return problem(http.StatusUnprocessableEntity, err.Error(), "", apitype.Fault{Field: "password",
			Message: err.Error()})
	case errors.Is(err, operator.ErrWider):
		return problem(http.StatusForbidden, err.Error(), "Make it in the console, or with another token.")
	case errors.Is(err, operator.ErrPrefix):
		return problem(http.StatusUnprocessableEntity, err.Error(), "", apitype.Fault{Field: "from",
			Message: err.Error()})
	case errors.Is(err, operator.ErrRole):
		return problem(http.StatusUnprocessableEntity, err.Error(), "", apitype.Fault{Field: "role",
			Message: err.Error()})
	case errors.Is(err, operator.ErrLast):
		return problem(http.StatusConflict, err.Error(), "Make somebody else an owner first.")
	case errors.Is(err, store.ErrNotFound):
		return problem(http.StatusNotFound, "there is no such operator", "")
	case errors.Is(err, operator.ErrName), errors.Is(err, store.ErrTaken):
		return problem(http.StatusUnprocessableEntity, err.Error(), "", apitype.Fault{Field: "name",
			Message: err.Error()})
	}
	return err
}

func (s *server) tokens() {
	huma.Register(s.api, operation("GET", "/tokens", "list-tokens", "Command-line tokens"), func(ctx context.Context,
		_ *none) (*body[apitype.Page[apitype.Token]], error) {
		keys, err := s.Store.Tokens(ctx)
		if err != nil {
			return nil, err
		}
		out := apitype.Page[apitype.Token]{Items: []apitype.Token{}}
		w := who(ctx)
		for _, k := range keys {
			if k.Operator != w.ID && !w.May(operator.Own) {
				continue
			}
			out.Items = append(out.Items, apitype.Token{ID: k.ID, Name: k.Name, Operator: k.Holder,
				Created: time.UnixMilli(k.CreatedAt), Used: time.UnixMilli(k.UsedAt), Until: moment(k.ExpiresAt),
				Scope: k.Scope, From: strings.Fields(k.Prefixes)})
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("POST", "/tokens", "add-token", "Make a command-line token for oneself"),
		func(ctx context.Context, in *struct {
			Body apitype.TokenInput
		}) (*body[apitype.SignedIn], error) {
			w := who(ctx)
			audit.Of(ctx).On("token", "", in.Body.Name).Say("made a token "+in.Body.Name).From(nil, in.Body)
			token, err := s.Operators.Token(ctx, &w, operator.Grant{Name: in.Body.Name, Days: in.Body.Days,
				Scope: operator.Role(in.Body.Scope), From: in.Body.From})
			if err != nil {
				return nil, operatorProblem(err)
			}
			return ok(apitype.SignedIn{Operator: w.Name, Token: token}), nil
		})
	huma.Register(s.api, operation("DELETE", "/tokens/{id}", "remove-token", "End a token"), func(ctx context.Context,
		in *struct {
			ID string `path:"id"`
		}) (*struct{}, error) {
		w := who(ctx)
		s.noteToken(ctx, in.ID)
		if w.May(operator.Own) {
			return nil, missing(s.Store.RemoveKey(ctx, in.ID), "token")
		}
		return nil, missing(s.Store.RemoveKeyOf(ctx, in.ID, w.ID), "token of yours")
	})
}

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
					Created: time.UnixMilli(o.CreatedAt)})
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
	huma.Register(s.api, operation("PUT", "/operators/{ref}", "change-operator",
		"Give an operator another role, at once; the last owner stays one"), func(ctx context.Context, in *struct {
		Ref  string `path:"ref" maxLength:"100" doc:"Name or identifier"`
		Body apitype.RoleInput
	}) (*struct{}, error) {
		role, err := operator.ParseRole(in.Body.Role)
		if err == nil {
			s.noteOperator(ctx, in.Ref, apitype.RoleInput{Role: string(role)})
			err = s.Operators.SetRole(ctx, in.Ref, role)
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
		e := audit.Of(ctx).On("operator", o.ID, o.Name).From(apitype.RoleInput{Role: o.Role}, after)
		if role, changes := after.(apitype.RoleInput); changes {
			e.Say(fmt.Sprintf("made operator %s %s, who was %s", o.Name, role.Role, o.Role))
		} else {
			e.Say("removed operator " + o.Name)
		}
	}
}

// noteToken says which token a call ends.
func (s *server) noteToken(ctx context.Context, id string) {
	keys, err := s.Store.Tokens(ctx)
	if err != nil {
		return // the call itself says so
	}
	for _, k := range keys {
		if k.ID == id {
			audit.Of(ctx).On("token", k.ID, k.Name).Say(fmt.Sprintf("ended the token %s of %s", k.Name, k.Holder))
		}
	}
}

// missing makes a 404 of store.ErrNotFound.
func missing(err error, what string) error {
	if errors.Is(err, store.ErrNotFound) {
		return problem(http.StatusNotFound, "there is no such "+what, "")
	}
	return err
}

// moment is a time in milliseconds, nil for none.
func moment(millis int64) *time.Time {
	if millis == 0 {
		return nil
	}
	at := time.UnixMilli(millis)
	return &at
}
