package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// copies registers the copies of people that directories in use keep.
func (s *server) copies() {
	huma.Register(s.api, operation("GET", "/directories/{ref}/copy", "list-copied-people",
		"The copies of people that a directory in use keeps, and the last run"), func(ctx context.Context, in *struct {
		OneInput
		Query   string `query:"q" maxLength:"200" doc:"Any part of a name or an attribute"`
		Missing bool   `query:"missing" doc:"Only those who lack a wanted attribute"`
		Gone    bool   `query:"gone" doc:"Only those who are no longer there"`
		After   string `query:"after" maxLength:"2000"`
		Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}) (*body[apitype.Copy], error) {
		d, err := s.inUse(in.Ref)
		if err != nil {
			return nil, err
		}
		after, err := base64.RawURLEncoding.DecodeString(in.After)
		if err != nil {
			return nil, problem(http.StatusUnprocessableEntity, "after is not the next of a page",
				"Leave it out to begin.")
		}
		rows, err := s.Store.CopiedList(ctx, store.CopiedFilter{Directory: d.ID, Text: in.Query, Missing: in.Missing,
			Gone: in.Gone, After: string(after), Limit: in.Limit + 1})
		if err != nil {
			return nil, err
		}
		out := apitype.Copy{Items: []apitype.CopiedPerson{}}
		for i := range rows[:min(len(rows), in.Limit)] {
			out.Items = append(out.Items, copiedView(&rows[i]))
		}
		if len(rows) > in.Limit {
			last := &rows[in.Limit-1]
			out.Next = base64.RawURLEncoding.EncodeToString([]byte(last.Name + "\x00" + last.ID))
		}
		out.Run, err = s.Copies.Last(ctx, d.ID)
		return ok(out), err
	})
	op := operation("POST", "/directories/{ref}/copy", "copy-people",
		"Copy the people of a directory in use now; how far it is, as it happens")
	sse.Register(s.api, op, map[string]any{"run": results.Copy{}}, func(ctx context.Context, in *OneInput,
		send sse.Sender) {
		d, err := s.inUse(in.Ref)
		now := time.Now()
		if err != nil {
			send.Data(results.Copy{Directory: in.Ref, Started: now, Ended: &now, Problem: err.Error()})
			return
		}
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		run, err := s.Copies.Copy(ctx, d, func(run results.Copy) {
			if send.Data(run) != nil {
				cancel() // nobody reads any more
			}
		})
		if err != nil && run.Ended == nil { // it did not even begin
			run.Ended, run.Problem = &now, err.Error()
			send.Data(run)
		}
	})
}

func copiedView(row *store.Copied) apitype.CopiedPerson {
	out := apitype.CopiedPerson{ID: row.ID, Name: row.Name, Display: row.Display, DN: row.DN, State: row.State,
		Missing: row.Missing, Seen: time.UnixMilli(row.SeenAt), Attributes: map[string][]string{}}
	json.Unmarshal(row.Attributes, &out.Attributes) // written by us
	if row.GoneAt != 0 {
		at := time.UnixMilli(row.GoneAt)
		out.Gone = &at
	}
	return out
}
