package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/manage/rehearsal"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

// rehearsals registers deciding recorded attempts again under the draft.
func (s *server) rehearsals() {
	huma.Register(s.api, operation("GET", "/rehearsal", "get-rehearsal", "The last rehearsal"),
		func(context.Context, *none) (*body[apitype.Rehearsal], error) {
			last := s.Rehearsals.Last()
			if last == nil {
				return nil, problem(http.StatusNotFound, "there was no rehearsal since the service was started",
					"Run one.")
			}
			_, number := s.Revisions.Running()
			return ok(apitype.Rehearsal{Rehearsal: last, Outdated: last.Draft != s.Revisions.Mark() ||
				last.Revision != number}), nil
		})
	op := operation("POST", "/rehearsal", "rehearse", "Decide recorded attempts again under the draft; how far it "+
		"is, as it happens, then what would change")
	op.MaxBodyBytes = maxImport
	sse.Register(s.api, op, map[string]any{"progress": results.Progress{}, "end": apitype.RehearsalEnd{}},
		func(ctx context.Context, in *struct {
			Body apitype.RehearsalInput
		}, send sse.Sender) {
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			result, err := s.rehearse(ctx, &in.Body, func(p results.Progress) {
				if send.Data(p) != nil {
					cancel() // nobody reads any more
				}
			})
			end := apitype.RehearsalEnd{Result: result}
			if err != nil {
				end.Problem = err.Error()
			}
			send.Data(end)
		})
}

func (s *server) rehearse(ctx context.Context, in *apitype.RehearsalInput,
	tell func(results.Progress)) (*results.Rehearsal, error) {
	mark := s.Revisions.Mark()
	draft := s.Revisions.CompiledDraft()
	if fault, bad := draft.Fault(); bad {
		return nil, fmt.Errorf("the draft cannot be rehearsed before its faults are corrected: %w", fault)
	}
	running, number := s.Revisions.CompiledRunning()
	until := time.Now()
	input := rehearsal.Input{Before: running.Plan, After: draft.Plan, Revision: number, Draft: mark,
		Since: until.Add(
			-time.Duration(in.Hours) * time.Hour,
		), Until: until, Ways: func(store, name string) (codes, phones bool) {
			return s.Factors.Ways(store, name, until)
		}}
	for _, line := range in.Sample {
		input.Sample = append(input.Sample, line)
	}
	return s.Rehearsals.Run(ctx, input, tell)
}

// samples registers the facts of recorded attempts for a rehearsal elsewhere.
func (s *server) samples() {
	huma.Register(s.api, operation("GET", "/attempts-sample", "export-sample",
		"The facts of recorded attempts, one JSON object a line, the newest first; a rehearsal takes them"),
		func(ctx context.Context, in *struct {
			Hours int `query:"hours" minimum:"1" maximum:"8784" default:"24"`
			Limit int `query:"limit" minimum:"1" maximum:"5000" default:"1000"`
		}) (*fileOutput, error) {
			now := time.Now()
			list, err := s.Attempts.Facts(ctx, store.Span{Since: now.Add(-time.Duration(in.Hours) * time.Hour),
				Until: now}, in.Limit)
			if err != nil {
				return nil, err
			}
			var out []byte
			for i := range list {
				out = append(append(out, list[i].Facts...), '\n')
			}
			return &fileOutput{"application/x-ndjson", out}, nil
		})
}
