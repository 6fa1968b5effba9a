package api

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/web/apitype"
)

const (
	// hitHours is how many hours are counted one by one, staleAfter when a policy that decides nothing is told.
	hitHours   = 48
	staleAfter = 90 * 24 * time.Hour
)

func (s *server) hits() {
	huma.Register(s.api, operation("GET", "/hits", "list-hits", "How often each policy and row of a group table "+
		"decided; trials do not count"), func(ctx context.Context, _ *none) (*body[apitype.AllHits], error) {
		running, number := s.Revisions.Running()
		sums, err := s.Attempts.Hits(ctx, number)
		if err != nil {
			return nil, err
		}
		now := time.Now()
		first := now.UnixMilli()/time.Hour.Milliseconds() - hitHours + 1
		hours, err := s.Attempts.HitsByHour(ctx, first)
		if err != nil {
			return nil, err
		}
		type key struct{ policy, group string }
		known := map[key]*apitype.Hits{}
		of := func(policy, group string) *apitype.Hits {
			k := key{policy, strings.ToLower(group)}
			if known[k] == nil {
				known[k] = &apitype.Hits{Policy: policy, Group: group, Hours: make([]int64, hitHours)}
			}
			return known[k]
		}
		for _, sum := range sums {
			h := of(sum.Policy, sum.Group)
			h.Since, h.Before = h.Since+sum.Since, h.Before+sum.Before
			if last := time.UnixMilli(sum.Last); h.Last == nil || last.After(*h.Last) {
				h.Last = &last
			}
		}
		for _, hour := range hours {
			if at := hour.Hour - first; at < hitHours {
				of(hour.Policy, hour.Group).Hours[at] += hour.Count
			}
		}
		out := apitype.AllHits{Revision: number, Items: []apitype.Hits{}}
		for i := range running.Lanes {
			for _, policy := range running.Lanes[i].Policies {
				groups := []string{""}
				for _, row := range policy.Groups {
					groups = append(groups, row.Group)
				}
				if len(groups) > 1 {
					groups = groups[1:]
				}
				for _, group := range groups {
					h := *of(policy.ID, group)
					h.Stale = stale(&h, now)
					out.Items = append(out.Items, h)
				}
			}
		}
		return ok(out), nil
	})
}

// stale reports whether a policy had 90 days to decide something, and did not.
func stale(h *apitype.Hits, now time.Time) bool {
	if h.Last != nil {
		return now.Sub(*h.Last) > staleAfter
	}
	made, err := ident.Parse(h.Policy)
	return err == nil && now.Sub(made.Time()) > staleAfter
}
