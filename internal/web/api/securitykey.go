package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/identity/securitykey"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/web/apitype"
)

// keyAnswer is the session that a security key answers in, and what the browser says.
func keyAnswer(a *apitype.KeyAnswer) (session string, response []byte) {
	if a == nil {
		return "", nil
	}
	response, _ = json.Marshal(a.Response) // it was JSON
	return a.Session, response
}

func keyAsked(session string, options json.RawMessage) (*body[apitype.KeyAsked], error) {
	out := apitype.KeyAsked{Session: session}
	err := json.Unmarshal(options, &out.Options)
	return ok(out), err
}

// securityKeys are the calls about security keys of operators.
func (s *server) securityKeys() {
	ask := operation("POST", "/sign-in/key", "ask-for-key",
		"Ask for a security key of whoever signs in with this name and password")
	ask.Security = []map[string][]string{}
	huma.Register(s.api, ask, func(ctx context.Context, in *struct {
		From
		Body apitype.SignInInput
	}) (*body[apitype.KeyAsked], error) {
		e := audit.Of(ctx).Skip() // it is half of a sign-in
		site, err := securitykey.SiteOf(in.origin, in.host)
		if err != nil {
			return nil, operatorProblem(err)
		}
		session, options, err := s.Operators.AskKey(ctx, operator.Attempt{From: in.remote, Agent: in.agent,
			Browser: in.browser, Name: in.Body.Name, Password: in.Body.Password, Code: in.Body.Code}, site)
		if errors.Is(err, operator.ErrWrong) || errors.Is(err, operator.ErrGuessed) {
			line := e.Because(err.Error())
			line.Who, line.What = in.Body.Name, "signed in"
			s.Audit.Refused(ctx, line)
		}
		if err != nil {
			return nil, operatorProblem(err)
		}
		return keyAsked(session, options)
	})
	huma.Register(
		s.api,
		operation("POST", "/me/keys", "begin-own-key", "Begin to register a security key of one's own"),
		func(ctx context.Context, in *struct {
			From
			Body apitype.OwnFactor
		}) (*body[apitype.KeyAsked], error) {
			w := who(ctx)
			if w.Kind != "session" {
				return nil, problem(
					http.StatusConflict,
					"a security key is registered in the console",
					"Sign in there.",
				)
			}
			site, err := securitykey.SiteOf(in.origin, in.host)
			if err != nil {
				return nil, operatorProblem(err)
			}
			if err := s.proveAgain(ctx, &w, in.remote, &in.Body); err != nil {
				return nil, err
			}
			session, options, err := s.Operators.BeginKey(&w, site)
			if err != nil {
				return nil, operatorProblem(err)
			}
			return keyAsked(session, options)
		},
	)
	huma.Register(s.api, operation("POST", "/me/keys/answer", "confirm-own-key",
		"End the registration with what the key answered; the recovery codes are shown once"),
		func(ctx context.Context, in *struct{ Body apitype.KeyAnswer }) (*body[apitype.FactorRecovery], error) {
			w := who(ctx)
			audit.Of(ctx).On("operator", w.ID, w.Name).Say("registered a security key")
			session, response := keyAnswer(&in.Body)
			codes, err := s.Operators.AddKey(ctx, &w, session, in.Body.Label, response)
			if err != nil {
				return nil, operatorProblem(factorFault(err))
			}
			return ok(apitype.FactorRecovery{Codes: append([]string{}, codes...)}), nil
		})
	huma.Register(s.api, operation("GET", "/me/factors", "list-own-factors", "One's own second factors"),
		func(ctx context.Context, _ *none) (*body[apitype.Page[apitype.Factor]], error) {
			w := who(ctx)
			out := apitype.Page[apitype.Factor]{Items: []apitype.Factor{}}
			for _, t := range s.Operators.Own(w.Name) {
				out.Items = append(out.Items, factorView(&t))
			}
			return ok(out), nil
		})
}

// proveAgain asks whoever is signed in for the password, and a code of the second factor that there is.
func (s *server) proveAgain(ctx context.Context, w *operator.Who, from string, in *apitype.OwnFactor) error {
	if err := s.Operators.Again(ctx, w, from, in.Password); err != nil && !errors.Is(err, operator.ErrKept) {
		return operatorProblem(err)
	}
	if s.Operators.Enrolled(w.Name) {
		if err := s.Operators.Show(ctx, w, in.Code, from); err != nil {
			return operatorProblem(err)
		}
	}
	return nil
}
