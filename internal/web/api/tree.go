package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/web/apitype"
)

// tree registers looking around in a directory.
func (s *server) tree() {
	huma.Register(s.api, operation("GET", "/directories/{ref}/tree", "list-directory-entries",
		"What lies directly below an entry of a directory of the draft"), func(ctx context.Context, in *struct {
		OneInput
		DN    string `query:"dn" maxLength:"2000" doc:"The entry; empty lists the naming contexts"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	}) (*body[apitype.Entries], error) {
		d, _, err := s.directory(in.Ref)
		if err != nil {
			return nil, err
		}
		items, more, err := d.Children(ctx, in.DN, in.Limit)
		if err != nil {
			return nil, problem(http.StatusBadGateway, err.Error(), "Look at the entry above it, and at what the "+
				"service account may read.")
		}
		return ok(apitype.Entries{Items: items, More: more}), nil
	})
	huma.Register(s.api, operation("GET", "/directories/{ref}/entry", "get-directory-entry",
		"The attributes of one entry of a directory of the draft, secrets left out"), func(ctx context.Context,
		in *struct {
			OneInput
			DN string `query:"dn" required:"true" minLength:"1" maxLength:"2000"`
		}) (*body[results.Details], error) {
		d, _, err := s.directory(in.Ref)
		if err != nil {
			return nil, err
		}
		out, err := d.Entry(ctx, in.DN)
		if err != nil {
			return nil, problem(http.StatusBadGateway, err.Error(), "Look at the entry above it, and at what the "+
				"service account may read.")
		}
		return ok(*out), nil
	})
}
