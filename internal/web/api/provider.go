package api

import (
	"context"
	"errors"
	"html"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/provider"
)

// bindingName is the cookie that ties a sign-in at the provider to the browser it was begun in. It has to come along
// when the provider sends the browser back, so it is not as strict as that of the session.
const bindingName = "tollgate_provider"

// BackInput is what the browser brings back from the provider.
type BackInput struct {
	From
	Binding string `cookie:"tollgate_provider"`
	query   url.Values
}

// Resolve implements huma.Resolver: the provider may add parameters of its own.
func (b *BackInput) Resolve(ctx huma.Context) []error {
	u := ctx.URL()
	b.query = u.Query()
	return b.From.Resolve(ctx)
}

func binding(value string, age time.Duration) string {
	c := http.Cookie{Name: bindingName, Value: value, Path: "/api/v1/sign-in/provider", HttpOnly: true, Secure: true,
		SameSite: http.SameSiteLaxMode, MaxAge: int(age / time.Second)}
	return c.String()
}

// providerCalls are those of signing in by the identity provider.
func (s *server) providerCalls() {
	op := operation("GET", "/sign-in/provider", "begin-provider-sign-in",
		"Go to the identity provider, which sends the browser back")
	op.Security = []map[string][]string{}
	huma.Register(s.api, op, func(ctx context.Context, in *struct{ From }) (*huma.StreamResponse, error) {
		address, value, err := s.Provider.Begin(ctx, s.Operators.Settings().Provider)
		return &huma.StreamResponse{Body: func(out huma.Context) {
			if err != nil {
				plainPage(out, statusOf(err, http.StatusBadGateway), "This does not work now", err.Error())
				return
			}
			out.AppendHeader("Set-Cookie", binding(value, 10*time.Minute))
			out.SetHeader("Location", address)
			out.SetStatus(http.StatusSeeOther)
		}}, nil
	})
	op = operation(
		"GET",
		"/sign-in/provider/back",
		"end-provider-sign-in",
		"Where the identity provider sends the browser "+
			"back to",
	)
	op.Security = []map[string][]string{}
	op.SkipValidateParams = true
	huma.Register(s.api, op, func(ctx context.Context, in *BackInput) (*huma.StreamResponse, error) {
		e, what := audit.Of(ctx), "signed in by the identity provider"
		settings := s.Operators.Settings()
		var person operator.Person
		var role operator.Role
		var signed operator.Signed
		err := operator.ErrTooMany // each answer has the provider asked, so strangers do not bring as many as they like
		if s.Operators.Turn(in.remote) {
			person, role, err = s.Provider.End(ctx, settings.Provider, in.query, in.Binding)
		}
		if err == nil {
			known := func(name string, role operator.Role) { e.By(name, string(role)).Say(what) }
			signed, err = s.Operators.SignInAs(ctx, operator.Attempt{From: in.remote, Agent: in.agent, Known: known},
				provider.Source, person, role)
		}
		if err != nil {
			line := e.Skip().Because(err.Error())
			line.Who, line.What = person.Name, what
			s.Audit.Refused(ctx, line)
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.AppendHeader("Set-Cookie", binding("", -time.Second))
			if err != nil {
				plainPage(out, statusOf(err, http.StatusBadRequest), "Not signed in", err.Error())
				return
			}
			c := cookie(signed.Bearer, 30*24*time.Hour)
			out.AppendHeader("Set-Cookie", c.String())
			// the session cookie goes with what this site asks for alone, so a redirect would not do
			out.SetHeader("Refresh", "0; url=/")
			plainPage(out, http.StatusOK, "Signed in", "")
		}}, nil
	})
}

func statusOf(err error, otherwise int) int {
	switch {
	case errors.Is(err, provider.ErrOff):
		return http.StatusNotFound
	case errors.Is(err, operator.ErrTooMany):
		return http.StatusTooManyRequests
	}
	return otherwise
}

// plainPage answers a browser that was sent here, in plain words.
func plainPage(out huma.Context, status int, title, text string) {
	out.SetHeader("Content-Type", "text/html; charset=utf-8")
	out.SetStatus(status)
	var b strings.Builder
	b.WriteString(
		"<!doctype html><html lang=\"en\"><title>Tollgate Key</title><h1>" + html.EscapeString(title) + "</h1>",
	)
	if text != "" {
		b.WriteString("<p>" + html.EscapeString(text) + "</p>")
	}
	b.WriteString("<p><a href=\"/\">Go to the console</a></p></html>")
	_, _ = out.BodyWriter().Write([]byte(b.String()))
}
