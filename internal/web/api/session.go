package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/securitykey"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/provider"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// From carries the remote address into a call, and the page that it comes from.
type From struct{ remote, agent, origin, host, browser string }

// Resolve implements huma.Resolver.
func (f *From) Resolve(ctx huma.Context) []error {
	f.remote, f.agent = remote(ctx), ctx.Header("User-Agent")
	f.origin, f.host = ctx.Header("Origin"), ctx.Host()
	if c, err := huma.ReadCookie(ctx, browserName); err == nil {
		f.browser = c.Value
	}
	return nil
}

type withCookie[T any] struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      T
}

// cookie makes the session cookie. Secure cookies also work over plain HTTP on loopback addresses, and plain HTTP is
// served nowhere else.
func cookie(value string, age time.Duration) http.Cookie {
	return http.Cookie{Name: sessionName, Value: value, Path: "/", HttpOnly: true, Secure: true,
		SameSite: http.SameSiteStrictMode, MaxAge: int(age / time.Second)}
}

// browserCookie is what a browser keeps that somebody has signed in with; it goes to the sign-in alone.
func browserCookie(value string) http.Cookie {
	return http.Cookie{Name: browserName, Value: value, Path: "/api/v1/sign-in", HttpOnly: true, Secure: true,
		SameSite: http.SameSiteStrictMode, MaxAge: 365 * 24 * 60 * 60}
}

func (s *server) sessions() {
	open := func(op huma.Operation) huma.Operation {
		op.Security = []map[string][]string{}
		return op
	}
	huma.Register(s.api, open(operation("GET", "/about", "about", "What is running, and who is signed in")),
		func(ctx context.Context, _ *none) (*body[apitype.About], error) {
			out := apitype.About{Version: s.Version, SetupNeeded: s.Operators.SetupCode() != "", Node: s.Cluster.Name()}
			settings := s.Operators.Settings()
			if settings.Provider != nil {
				out.Provider = settings.Provider.Label
			}
			if w := who(ctx); w.Name != "" {
				out.Operator, out.Role, out.Rights = w.Name, string(w.Role), w.Rights()
				out.Enrolling, out.SecondFactor, out.Elsewhere = w.Enrolling, s.Operators.Enrolled(w.Name), w.Elsewhere
				out.ByProvider = w.Source == provider.Source
				out.Mail = s.Mail != nil
				out.IdleMinutes, out.Limits = settings.IdleMinutes, w.Limits
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
			e := audit.Of(ctx).By(in.Body.Name, string(operator.Owner)).On("operator", "", in.Body.Name).Say(
				"created the first operator, " + in.Body.Name)
			if err := s.Operators.SetUp(ctx, in.remote, in.Body.Code, in.Body.Name, in.Body.Password); err != nil {
				s.Audit.Refused(ctx, e.Skip().Because(err.Error()))
				return nil, operatorProblem(err)
			}
			return s.signIn(ctx, &in.From, apitype.SignInInput{Name: in.Body.Name, Password: in.Body.Password})
		})
	huma.Register(s.api, open(operation("POST", "/sign-in", "sign-in", "Sign in, for a browser or for a token")),
		func(ctx context.Context, in *struct {
			From
			Body apitype.SignInInput
		}) (*withCookie[apitype.SignedIn], error) {
			return s.signIn(ctx, &in.From, in.Body)
		})
	huma.Register(s.api, operation("POST", "/sign-out", "sign-out", "End this session or token"),
		func(ctx context.Context, _ *none) (*withCookie[apitype.SignedOut], error) {
			w := who(ctx)
			if err := s.Store.RemoveKey(ctx, w.KeyID); err != nil {
				return nil, err
			}
			out := &withCookie[apitype.SignedOut]{SetCookie: []http.Cookie{cookie("", -time.Second)}}
			if w.Elsewhere {
				out.Body.Provider = s.Provider.Out(s.Operators.Settings().Provider)
			}
			return out, nil
		})
	s.securityKeys()
	s.tokens()
	s.operatorCalls()
}

func (s *server) signIn(ctx context.Context, from *From, in apitype.SignInInput) (*withCookie[apitype.SignedIn],
	error) {
	e, what := audit.Of(ctx), "signed in"
	if in.TokenName != "" {
		what += ", with a new token " + in.TokenName
	}
	session, response := keyAnswer(in.Key)
	signed, err := s.Operators.SignIn(ctx, operator.Attempt{From: from.remote, Agent: from.agent, Browser: from.browser,
		Name: in.Name, Password: in.Password, Code: in.Code, TokenName: in.TokenName, KeySession: session,
		KeyResponse: response,
		Known:       func(name string, role operator.Role) { e.By(name, string(role)).Say(what) }})
	if err != nil {
		if line := e.Skip().Because(err.Error()); !errors.Is(err, operator.ErrFactor) {
			line.Who, line.What = in.Name, what
			s.Audit.Refused(ctx, line)
		}
		return nil, operatorProblem(err)
	}
	out := &withCookie[apitype.SignedIn]{Body: apitype.SignedIn{Operator: signed.Name}}
	if in.TokenName != "" {
		out.Body.Token = signed.Bearer
		out.SetCookie = []http.Cookie{cookie("", -time.Second)}
		return out, nil
	}
	out.SetCookie = []http.Cookie{cookie(signed.Bearer, 30*24*time.Hour)}
	if signed.Browser != "" {
		out.SetCookie = append(out.SetCookie, browserCookie(signed.Browser))
	}
	return out, nil
}

// coded is a problem that programs act on.
func coded(status int, code string, err error, remedy string) error {
	return &apitype.Problem{Code: code, Title: http.StatusText(status), Status: status, Detail: err.Error(),
		Remedy: remedy}
}

func operatorProblem(err error) error {
	var field *operator.FieldError
	if errors.As(err, &field) {
		return faulty(field.Field, field.Message, field.Remedy)
	}
	switch {
	case errors.Is(err, operator.ErrFactor):
		return coded(http.StatusUnauthorized, "factor.missing", err, "Give the code that your device shows now.")
	case errors.Is(err, operator.ErrNoKey), errors.Is(err, securitykey.ErrSite):
		return coded(http.StatusConflict, "key.none", err, "Use a code; or open the console by its name, by https.")
	case errors.Is(err, securitykey.ErrKey), errors.Is(err, securitykey.ErrOver), errors.Is(err, securitykey.ErrBusy):
		return coded(http.StatusUnauthorized, "key.wrong", err, "Try again.")
	case errors.Is(err, operator.ErrFactorWrong), errors.Is(err, factor.ErrNone):
		return coded(http.StatusUnauthorized, "factor.wrong", err, "Give the code that your device shows now, or a "+
			"recovery code.")
	case errors.Is(err, operator.ErrEnrolFirst), errors.Is(err, operator.ErrNeeded):
		return coded(http.StatusForbidden, "factor.needed", err, "")
	case errors.Is(err, operator.ErrNone):
		return problem(http.StatusNotFound, err.Error(), "")
	case errors.Is(err, operator.ErrCurrent):
		return problem(http.StatusUnprocessableEntity, err.Error(), "", apitype.Fault{Field: "present",
			Message: err.Error()})
	case errors.Is(err, operator.ErrKept):
		return problem(http.StatusConflict, err.Error(), "Change it where it is kept.")
	case errors.Is(err, operator.ErrNoRole), errors.Is(err, operator.ErrConflict):
		return problem(http.StatusForbidden, err.Error(), "Ask an owner.")
	case errors.Is(err, operator.ErrWrong):
		return problem(http.StatusUnauthorized, err.Error(), "")
	case errors.Is(err, operator.ErrGuessed):
		return coded(http.StatusTooManyRequests, "name.guessed", err, "Give the code of your second factor with the "+
			"password; sign in from a browser or address where you have signed in before; or wait a few minutes.")
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
		keys, err := s.Store.Keys(ctx, "token")
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

// noteToken says which token a call ends.
func (s *server) noteToken(ctx context.Context, id string) {
	keys, err := s.Store.Keys(ctx, "token")
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
