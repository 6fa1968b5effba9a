package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/apitype"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/rehearsal"
)

// rehearsals registers deciding recorded attempts again under the draft.
func (s *server) rehearsals() {
	huma.Register(s.api, operation("GET", "/rehearsal", "get-rehearsal", "The last rehearsal"), func(context.Context, *none) (*body[apitype.Rehearsal], error) {
		last := s.Rehearsals.Last()
		if last == nil {
			return nil, problem(http.StatusNotFound, "there was no rehearsal since the service was started", "Run one.")
		}
		_, number := s.Revisions.Running()
		return ok(apitype.Rehearsal{Result: last, Outdated: last.Draft != s.draftMark() || last.Revision != number}), nil
	})
	op := operation("POST", "/rehearsal", "rehearse", "Decide recorded attempts again under the draft; how far it is, as it happens, then what would change")
	sse.Register(s.api, op, map[string]any{"progress": rehearsal.Progress{}, "end": apitype.RehearsalEnd{}}, func(ctx context.Context, in *struct {
		Body apitype.RehearsalInput
	}, send sse.Sender) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		result, err := s.rehearse(ctx, in.Body.Hours, func(p rehearsal.Progress) {
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

func (s *server) rehearse(ctx context.Context, hours int, tell func(rehearsal.Progress)) (*rehearsal.Result, error) {
	mark := s.draftMark()
	after, problems := decide.Compile(s.Revisions.Draft())
	if after == nil {
		at := slices.IndexFunc(problems, func(p config.Problem) bool { return !p.Warning })
		return nil, fmt.Errorf("the draft cannot be rehearsed before its faults are corrected: %w", problems[at])
	}
	running, number := s.Revisions.Running()
	before, problems := decide.Compile(running)
	if before == nil {
		return nil, problems[0]
	}
	until := time.Now()
	return s.Rehearsals.Run(ctx, rehearsal.Input{Before: before, After: after, Revision: number, Draft: mark, Since: until.Add(-time.Duration(hours) * time.Hour), Until: until}, tell)
}

// draftMark changes with the draft.
func (s *server) draftMark() string {
	text, _ := json.Marshal(s.Revisions.Changes())
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:8])
}
