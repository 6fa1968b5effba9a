package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) draft() {
	huma.Register(s.api, operation("GET", "/draft", "get-draft", "What the draft would change"),
		func(ctx context.Context, _ *none) (*body[apitype.Draft], error) {
			_, number := s.Revisions.Running()
			c := s.Revisions.CompiledDraft()
			changes := s.Revisions.Changes()
			out := apitype.Draft{Revision: number, Changes: changes.List, More: changes.More,
				Problems: s.Analyst.Problems(c), Mark: s.Revisions.Mark(), Publishable: true}
			if out.Problems == nil {
				out.Problems = []config.Problem{}
			}
			out.Asked, out.NeedsSecond = s.asked(ctx), s.needsSecond(changes)
			for _, p := range out.Problems {
				out.Publishable = out.Publishable && p.Warning
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("DELETE", "/draft", "discard-draft", "Make the draft the same as what is running"),
		func(ctx context.Context, _ *none) (*struct{}, error) {
			return nil, s.Revisions.Discard(ctx, who(ctx).Name)
		})
	huma.Register(s.api, operation("POST", "/draft/publish", "publish", "Check the whole draft and its expectations, "+
		"and put it into effect"), func(ctx context.Context, in *struct{ Body apitype.PublishBody }) (
		*body[apitype.Published], error) {
		number, err := s.Revisions.Publish(ctx, revision.Order{Operator: who(ctx).Name, Note: in.Body.Note,
			Despite: in.Body.Despite, Agree: s.agree(ctx)})
		if err != nil {
			return nil, publishProblem(err)
		}
		return ok(s.published(number)), nil
	})
	huma.Register(s.api, operation("POST", "/draft/discard", "discard-part", "Take one change of the draft back"),
		func(ctx context.Context, in *struct{ Body apitype.DiscardPart }) (*struct{}, error) {
			running, _ := s.Revisions.Running()
			return nil, editProblem(s.Revisions.Edit(ctx, who(ctx).Name, func(c *config.Config,
				_ revision.Authors) (string, error) {
				if err := s.within(ctx, revision.Changes{List: []config.Change{{Kind: in.Body.Kind, ID: in.Body.ID,
					Object: in.Body.ID}}}); err != nil {
					return "", err
				}
				if err := c.Revert(running, in.Body.Kind, in.Body.ID, in.Body.Lane); err != nil {
					return "", problem(http.StatusConflict, err.Error(), "Read the draft again.")
				}
				return in.Body.ID, nil
			}))
		})
	huma.Register(s.api, operation("GET", "/revisions", "list-revisions", "Published revisions, the newest first"),
		func(ctx context.Context, in *struct {
			Before int `query:"before" minimum:"0" doc:"Cursor: only revisions below this number"`
			Limit  int `query:"limit" minimum:"1" maximum:"200" default:"50"`
		}) (*body[apitype.Page[apitype.Revision]], error) {
			rows, err := s.Store.Revisions(ctx, in.Before, in.Limit+1)
			if err != nil {
				return nil, err
			}
			out := apitype.Page[apitype.Revision]{Items: []apitype.Revision{}}
			if len(rows) > in.Limit {
				rows = rows[:in.Limit]
				out.Next = fmt.Sprint(rows[in.Limit-1].Number)
			}
			_, running := s.Revisions.Running()
			for _, row := range rows {
				out.Items = append(out.Items, revisionView(row, running))
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("POST", "/revisions/{number}/return", "return-to-revision",
		"Publish the configuration of an earlier revision again, if its expectations are met"),
		func(ctx context.Context, in *struct {
			Number int `path:"number" minimum:"1"`
			Body   apitype.PublishBody
		}) (*body[apitype.Published], error) {
			text := in.Body.Note
			if text == "" {
				text = fmt.Sprintf("back to revision %d", in.Number)
			}
			number, err := s.Revisions.Return(ctx, in.Number, revision.Order{Operator: who(ctx).Name, Note: text,
				Despite: in.Body.Despite, Agree: s.agree(ctx)})
			if err != nil {
				return nil, publishProblem(err)
			}
			return ok(s.published(number)), nil
		})
	huma.Register(s.api, operation("GET", "/revisions/{number}/diff", "diff-revision",
		"What changed from one revision to another; from what is running, what returning to it would change"),
		func(ctx context.Context, in *struct {
			Number int `path:"number" minimum:"1"`
			From   int `query:"from" minimum:"0" doc:"Revision to begin with; 0 is the running one"`
		}) (*body[apitype.Draft], error) {
			to, err := s.Revisions.Config(ctx, in.Number)
			if err != nil {
				return nil, missing(err, "revision")
			}
			from, number := s.Revisions.Running()
			if in.From > 0 {
				number = in.From
				if from, err = s.Revisions.Config(ctx, in.From); err != nil {
					return nil, missing(err, "revision")
				}
			}
			changes := revision.Differences(from, to)
			return ok(apitype.Draft{Revision: number, Changes: changes.List, More: changes.More,
				Problems: []config.Problem{}, Publishable: true}), nil
		})
}

func (s *server) published(number int) apitype.Published {
	running, _ := s.Revisions.CompiledRunning()
	out := apitype.Published{Revision: number, Warnings: s.Analyst.Problems(running)}
	if out.Warnings == nil {
		out.Warnings = []config.Problem{}
	}
	return out
}

func revisionView(row store.Revision, running int) apitype.Revision {
	changes, _ := revision.ReadChanges(row.Changes)
	return apitype.Revision{Number: row.Number, At: time.UnixMilli(row.At), Operator: row.Operator, Note: row.Note,
		Running: row.Number == running, Changes: changes.List, More: changes.More}
}
