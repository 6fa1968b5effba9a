package api

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// taker takes an object out of a configuration that is nobody else's; false if it is not there.
type taker func(c *config.Config, ref string) bool

func takes[T any, P config.Object[T], In, Out any](k *kind[T, P, In, Out]) taker {
	return func(c *config.Config, ref string) bool {
		list := k.list(c)
		_, at := config.Find[T, P](*list, ref)
		if at >= 0 {
			*list = slices.Delete(slices.Clone(*list), at, at+1)
		}
		return at >= 0
	}
}

func (s *server) uses() {
	huma.Register(s.api, operation("GET", "/uses/{kind}/{ref}", "list-uses",
		"What would be wrong in the draft without an object: where it is used"),
		func(ctx context.Context, in *struct {
			Kind string `path:"kind" maxLength:"40" doc:"As in the address of its list: clients, passes ..."`
			OneInput
		}) (*body[apitype.Uses], error) {
			take := s.takers[in.Kind]
			draft := s.Revisions.CompiledDraft()
			without := draft.Config.Copy()
			if take == nil || !take(without, in.Ref) {
				return nil, problem(http.StatusNotFound, "there is no such object in the draft", "")
			}
			type place struct{ id, field, message string }
			had := map[place]bool{}
			for _, p := range draft.Problems {
				had[place{p.ID, p.Field, p.Message}] = true
			}
			out := apitype.Uses{Items: []config.Problem{}}
			for _, p := range s.Revisions.Compile(without).Problems {
				if !p.Warning && !had[place{p.ID, p.Field, p.Message}] {
					out.Items = append(out.Items, p)
				}
			}
			return ok(out), nil
		})
}
