package api

import (
	"context"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

const (
	shownMinutes  = 60
	shownRefusals = 8
)

func (s *server) now() {
	huma.Register(s.api, operation("GET", "/now", "get-now", "The last hour, and what needs attention"),
		func(ctx context.Context, _ *none) (*body[apitype.Now], error) {
			now := time.Now()
			out := apitype.Now{At: now, Minutes: []apitype.Minute{}, Refusals: []apitype.Attempt{},
				MedianMicros: s.Tally.Median(), Waiting: s.Waiting(), Gear: s.GearOpen(), Lost: s.Attempts.Lost()}
			drops := s.Sources.DropsByMinute()
			for m := now.Unix()/60 - shownMinutes + 1; m <= now.Unix()/60; m++ {
				count := s.Tally.Minute(m)
				out.Minutes = append(out.Minutes, apitype.Minute{At: time.Unix(m*60, 0), Admitted: count.Admitted,
					Refused: count.Refused, Dropped: drops[m]})
				out.Admitted += count.Admitted
				out.Refused += count.Refused
				out.Dropped += drops[m]
			}
			rows, err := s.refusals(ctx)
			if err != nil {
				return nil, err
			}
			for i := range rows {
				out.Refusals = append(out.Refusals, s.attemptView(ctx, &rows[i]))
			}
			out.Attention = []apitype.Attention{}
			reach := s.reach(ctx)
			for _, item := range s.Attention.List(now) {
				if reach != nil && item.Code == attention.ClientFault && !reach(item.Params["client"]) {
					continue
				}
				out.Attention = append(out.Attention, attentionView(&item))
			}
			return ok(out), nil
		})
	huma.Register(s.api, operation("GET", "/contacts", "list-contacts",
		"Source addresses with a problem, unknown ones too"), func(ctx context.Context, in *struct {
		Unknown bool `query:"unknown" doc:"Only addresses that are no client"`
	}) (*body[apitype.Page[apitype.Contact]], error) {
		out := apitype.Page[apitype.Contact]{Items: []apitype.Contact{}}
		running, _ := s.Revisions.Running()
		reach := s.reach(ctx)
		for _, c := range s.Sources.All() {
			if c.Problem == nil || in.Unknown && c.Client != "" {
				continue
			}
			name := ""
			if client, at := config.Find(running.Clients, c.Client); c.Client != "" && at >= 0 {
				name = client.Name
			}
			if c.Client != "" && reach != nil && !reach(name) {
				continue
			}
			if out.Items = append(out.Items, *contactView(&c, name)); len(out.Items) == 500 {
				break
			}
		}
		return ok(out), nil
	})
	huma.Register(s.api, operation("DELETE", "/contacts/{address}", "forget-contact",
		"Forget an unknown source address"), func(_ context.Context, in *struct {
		Address string `path:"address" maxLength:"60"`
	}) (*struct{}, error) {
		addr, err := netip.ParseAddr(in.Address)
		if err != nil {
			return nil, problem(404, "there is no address "+in.Address, "")
		}
		s.Sources.Forget(addr)
		return nil, nil
	})
}

// refusals lists the newest refusal of each person and device.
func (s *server) refusals(ctx context.Context) ([]store.Attempt, error) {
	page, err := s.Attempts.Find(ctx, store.Filter{Verdict: "refused", Patience: patience,
		Span: store.Span{Since: time.Now().Add(-time.Hour)}, Limit: 200, Reach: s.reach(ctx)})
	if err != nil {
		return nil, err
	}
	var out []store.Attempt
	seen := map[string]bool{}
	for _, row := range page.Items {
		if key := row.Who + "\x00" + row.Reason; !seen[key] && len(out) < shownRefusals {
			seen[key] = true
			out = append(out, row)
		}
	}
	return out, nil
}
