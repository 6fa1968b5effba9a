package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/web/apitype"
)

// oneself are the calls of an operator about the own password and second factor.
func (s *server) oneself() {
	huma.Register(s.api, operation("PUT", "/me/password", "change-own-password",
		"Change one's own password; one's other sessions end"), func(ctx context.Context, in *struct {
		From
		Body apitype.OwnPassword
	}) (*struct{}, error) {
		w := who(ctx)
		audit.Of(ctx).On("operator", w.ID, w.Name).Say("changed the own password")
		if err := s.Operators.SetPassword(ctx, &w, in.remote, in.Body.Present, in.Body.Next); err != nil {
			return nil, operatorProblem(err)
		}
		return nil, nil
	})
	huma.Register(s.api, operation(
		"POST",
		"/me/factor",
		"begin-own-factor",
		"Begin to enrol a second factor of one's own; it counts once a code of it was confirmed",
	), func(ctx context.Context,
		in *struct {
			From
			Body apitype.OwnFactor
		}) (*body[apitype.FactorOffer], error) {
		w := who(ctx)
		if w.Kind != "session" {
			return nil, problem(http.StatusConflict, "a second factor is enrolled in the console", "Sign in there.")
		}
		if err := s.proveAgain(ctx, &w, in.remote, &in.Body); err != nil {
			return nil, err
		}
		audit.Of(ctx).On("operator", w.ID, w.Name).Say("began to enrol the own second factor")
		offer, err := s.Operators.BeginFactor(ctx, &w)
		if err != nil {
			return nil, operatorProblem(err)
		}
		return ok(apitype.FactorOffer{Factor: factorView(&offer.Token), Seed: offer.Seed, URI: offer.URI,
			QR: offer.QR}), nil
	})
	huma.Register(s.api, operation("POST", "/me/factor/{id}/confirm", "confirm-own-factor",
		"End the enrolment with the code that the device shows; the recovery codes are shown once"),
		func(ctx context.Context, in *struct {
			ID   string `path:"id" maxLength:"20"`
			Body apitype.FactorCode
		}) (*body[apitype.FactorRecovery], error) {
			w := who(ctx)
			audit.Of(ctx).On("operator", w.ID, w.Name).Say("enrolled the own second factor")
			codes, err := s.Operators.ConfirmFactor(ctx, &w, in.ID, in.Body.Code)
			if err != nil {
				return nil, factorFault(err)
			}
			return ok(apitype.FactorRecovery{Codes: append([]string{}, codes...)}), nil
		})
	huma.Register(s.api, operation("POST", "/me/factor-recovery", "renew-own-recovery-codes",
		"Make new recovery codes of one's own second factor; the old ones count no more"), func(ctx context.Context,
		in *struct {
			From
			Body apitype.FactorCode
		}) (*body[apitype.FactorRecovery], error) {
		w := who(ctx)
		audit.Of(ctx).On("operator", w.ID, w.Name).Say("made new recovery codes")
		codes, err := s.Operators.RenewRecovery(ctx, &w, in.Body.Code, in.remote)
		if err != nil {
			return nil, operatorProblem(err)
		}
		return ok(apitype.FactorRecovery{Codes: codes}), nil
	})
	huma.Register(s.api, operation("POST", "/me/factor-removal", "remove-own-factor",
		"Remove one's own second factor, for a code of it"), func(ctx context.Context, in *struct {
		From
		Body apitype.FactorCode
	}) (*struct{}, error) {
		w := who(ctx)
		audit.Of(ctx).On("operator", w.ID, w.Name).Say("removed the own second factor")
		if err := s.Operators.RemoveOwnFactor(ctx, &w, in.Body.Code, in.remote); err != nil {
			return nil, operatorProblem(err)
		}
		return nil, nil
	})
}
