package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// watched are the kinds of objects that decide what people and devices get: where the settings ask for it, a second
// operator agrees to what touches them.
var watched = []string{"lane", "pass", "override", "command-list"}

// needsSecond reports whether a second operator has to agree to changes.
func (s *server) needsSecond(changes revision.Changes) bool {
	return s.Operators.Settings().FourEyes && (changes.More > 0 || slices.ContainsFunc(changes.List,
		func(c config.Change) bool { return slices.Contains(watched, c.Kind) }))
}

// agree makes what a publish asks before it does anything: whether the limits of the operator allow it, and where the
// settings want a second one, whether another one has asked for exactly this.
func (s *server) agree(ctx context.Context) func(revision.Wish) (string, error) {
	return func(wish revision.Wish) (string, error) {
		if err := s.within(ctx, wish.Changes); err != nil {
			return "", err
		}
		if !s.needsSecond(wish.Changes) {
			return "", nil
		}
		w := who(ctx)
		a, err := s.Store.Asked(ctx)
		switch {
		case err != nil && !errors.Is(err, store.ErrNotFound):
			return "", err
		case err != nil || a.Digest != wish.Digest || a.Revision != wish.Back:
			return "", second("lanes or passes are touched, so a second operator has to agree",
				"Ask for it; another one who may publish then does.")
		case a.Operator == w.ID:
			return "", second("you have asked for this, so another one has to publish it",
				"Tell somebody who may publish.")
		}
		list, err := s.Store.Operators(ctx)
		if err != nil {
			return "", err
		}
		if !slices.ContainsFunc(list, func(o store.Operator) bool {
			return o.ID == a.Operator && operator.Role(o.Role).May(operator.Configure)
		}) {
			return "", second(a.Name+", who asked for this, may not publish any more", "Ask for it again.")
		}
		return a.Name, nil
	}
}

// second refuses what only two may do.
func second(detail, remedy string) error {
	return &apitype.Problem{Code: "second.needed", Title: http.StatusText(http.StatusConflict),
		Status: http.StatusConflict, Detail: "Not published: " + detail + ".", Remedy: remedy}
}

// asked is what somebody asks for, nil for nothing.
func (s *server) asked(ctx context.Context) *apitype.Asked {
	a, err := s.Store.Asked(ctx)
	if err != nil {
		return nil
	}
	out := &apitype.Asked{Operator: a.Name, At: time.UnixMilli(a.At), Note: a.Note, Revision: a.Revision,
		Own: a.Operator == who(ctx).ID}
	wish, err := s.Revisions.Wish(ctx, a.Revision)
	out.Stale = err != nil || wish.Digest != a.Digest
	return out
}

// eyes are the calls about what needs two operators.
func (s *server) eyes() {
	huma.Register(s.api, operation(
		"POST",
		"/draft/ask",
		"ask-to-publish",
		"Ask another operator to publish the draft as it is now, or to return to a revision",
	), func(ctx context.Context,
		in *struct{ Body apitype.AskInput }) (*body[apitype.Asked], error) {
		wish, err := s.Revisions.Wish(ctx, in.Body.Revision)
		if err != nil {
			return nil, publishProblem(err)
		}
		if err := s.within(ctx, wish.Changes); err != nil {
			return nil, err
		}
		w := who(ctx)
		what := "asked to publish the draft"
		if in.Body.Revision != 0 {
			what = fmt.Sprintf("asked to return to revision %d", in.Body.Revision)
		}
		if in.Body.Note != "" {
			what += ": " + in.Body.Note
		}
		audit.Of(ctx).On("revision", "", "").Say(what)
		if err := s.Store.Ask(ctx, store.Asked{Operator: w.ID, Name: w.Name, At: time.Now().UnixMilli(),
			Note: in.Body.Note, Digest: wish.Digest, Revision: in.Body.Revision}); err != nil {
			return nil, err
		}
		return ok(*s.asked(ctx)), nil
	})
	huma.Register(
		s.api,
		operation("DELETE", "/draft/ask", "withdraw-ask", "Ask for it no more"),
		func(ctx context.Context,
			_ *none) (*struct{}, error) {
			audit.Of(ctx).On("revision", "", "").Say("withdrew what was asked for")
			return nil, missing(s.Store.Withdraw(ctx), "thing that is asked for")
		},
	)
}
