package api

import (
	"context"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) analyses() {
	huma.Register(s.api, operation("GET", "/draft/analysis", "analyse-draft",
		"What in the draft can never happen, overlaps, is not used or no longer exists"), func(ctx context.Context,
		_ *none) (*body[apitype.Analysis], error) {
		s.Analyst.LookAfterGroups(ctx)
		return ok(analysisView(s.Analyst.Analyse(s.Revisions.CompiledDraft()))), nil
	})
	huma.Register(s.api, operation("POST", "/lanes/{ref}/analysis", "analyse-lane",
		"What would be found in a lane as it is typed; nothing is saved"), func(_ context.Context, in *struct {
		OneInput
		Body apitype.LaneFields
	}) (*body[apitype.Analysis], error) {
		c, at := withLane(s.Revisions.Draft(), in.Ref, &in.Body)
		return ok(analysisView(s.Analyst.Lane(s.Revisions.Compile(c), at))), nil
	})
}

// withLane is the draft with a lane as it is being typed, and its place.
func withLane(draft *config.Config, ref string, in *apitype.LaneFields) (*config.Config, int) {
	c := draft.Copy()
	_, at := config.Find(c.Lanes, ref)
	if at < 0 {
		at = len(c.Lanes)
		c.Lanes = append(c.Lanes, &config.Lane{ID: ref})
	}
	lane := config.Own(c.Lanes, at)
	lane.Name, lane.When, lane.Methods, lane.Realm, lane.Forward, lane.TLS, lane.Policies = in.Name, in.When,
		in.Methods, in.Realm, in.Forward, in.TLS, slices.Clone(in.Policies)
	c.NormaliseSince(draft)
	c.Share(draft)
	return c, at
}

func analysisView(a revision.Analysis) apitype.Analysis {
	return apitype.Analysis{Items: a.Items, Policies: a.Policies, Micros: a.Took.Microseconds(), Problem: a.Problem}
}
