package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
)

// feeds registers what is sent on.
func (s *server) feeds() {
	register(s, &kind[config.Feed, *config.Feed, apitype.FeedFields, apitype.Feed]{
		name: "feed", plural: "feeds",
		list: func(c *config.Config) *[]*config.Feed { return &c.Feeds },
		apply: func(_ *config.Config, f *config.Feed, in *apitype.FeedFields) (string, error) {
			f.Name, f.Enabled, f.Records, f.To, f.Address, f.CA = in.Name, in.Enabled, in.Records, in.To, in.Address,
				in.CA
			f.ServerName, f.Certificate, f.Facility, f.File = in.ServerName, in.Certificate, in.Facility, in.File
			f.Megabytes, f.Keep, f.Verdict, f.Client = in.Megabytes, in.Keep, in.Verdict, in.Client
			f.Who, f.Lane, f.Note = strings.ToLower(in.Who), in.Lane, in.Note
			return "", nil
		},
		text: func(f *config.Feed) string { return f.Name + " " + f.Address + " " + f.File },
		views: func(*config.Config) func(*config.Feed, apitype.Meta) apitype.Feed {
			return func(f *config.Feed, m apitype.Meta) apitype.Feed {
				return apitype.Feed{Meta: m, States: s.sent("feed", f.ID), FeedFields: apitype.FeedFields{Name: f.Name,
					Enabled: f.Enabled, Records: f.Records, To: f.To, Address: f.Address, CA: f.CA,
					ServerName: f.ServerName, Certificate: f.Certificate, Facility: f.Facility, File: f.File,
					Megabytes: f.Megabytes, Keep: f.Keep, Verdict: f.Verdict, Client: f.Client, Who: f.Who,
					Lane: f.Lane, Note: f.Note}}
			}
		},
	})
	huma.Register(s.api, operation("POST", "/feeds/{ref}/test", "test-feed",
		"Send one event by way of a feed as it stands in the draft, and say whether it was taken"),
		func(ctx context.Context, in *struct {
			Ref string `path:"ref" maxLength:"200"`
		}) (*struct{}, error) {
			f, at := config.Find(s.Revisions.Draft().Feeds, in.Ref)
			if at < 0 {
				return nil, problem(http.StatusNotFound, "there is no feed "+in.Ref, "List the feeds.")
			}
			if err := s.Onward.Test(ctx, f, who(ctx).Name); err != nil {
				return nil, problem(http.StatusBadGateway, "the event could not be sent: "+err.Error(),
					"Correct the address, or look at the receiver.")
			}
			return nil, nil
		})
}

// sent lists how far records have been sent on to somebody.
func (s *server) sent(kind, id string) []apitype.FeedState {
	out := []apitype.FeedState{}
	for _, one := range s.Onward.States(kind, id) {
		out = append(out, apitype.FeedState{Records: one.Kind, Sent: one.Sent, Passed: one.Passed, GivenUp: one.Given,
			At: one.At, Behind: one.Behind, Fault: one.Fault, Since: one.Since})
	}
	return out
}
