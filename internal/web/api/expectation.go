package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

func (s *server) expectations() {
	huma.Register(s.api, operation("GET", "/expectations-check", "check-expectations",
		"Try every expectation under the draft, or under what is running; nothing is recorded"),
		func(ctx context.Context, in *struct {
			Of string `query:"of" enum:"draft,running" default:"draft"`
		}) (*body[apitype.AllExpected], error) {
			plan, err := s.planOf(in.Of)
			if err != nil {
				return nil, err
			}
			return ok(expectedView(s.Revisions.Expect(ctx, plan))), nil
		})
}

// dryRun registers asking what an attempt would come to, which need not be an expectation.
func (s *server) dryRun() {
	huma.Register(s.api, operation("POST", "/dry-run", "dry-run", "The road of an attempt that was not made, with "+
		"the proof taken to be right, under the draft or what is running; nothing is recorded"),
		func(ctx context.Context, in *struct {
			Of   string `query:"of" enum:"draft,running" default:"draft"`
			Body apitype.ExpectationFields
		}) (*body[apitype.DryRun], error) {
			plan, err := s.planOf(in.Of)
			if err != nil {
				return nil, err
			}
			b := &in.Body
			if b.Asks == "" && config.FindMethod(b.Method) == nil {
				return nil, faulty("method", fmt.Sprintf("%q is not a method", b.Method), "Use one of: "+
					strings.Join(config.Methods, ", ")+".")
			}
			_, f, err := s.Revisions.DryRun(ctx, plan, &config.Expectation{Sent: strings.TrimSpace(b.Sent),
				Client: b.Client, Method: b.Method, Asks: b.Asks, Command: b.Command, Level: b.Level,
				Attributes: b.Attributes, At: b.At}, time.Now())
			if f == nil {
				return nil, faulty("sent", err.Error(), "Correct it, and ask again.")
			}
			out := apitype.DryRun{Under: in.Of, Facts: *f, Trace: plan.Trace(f)}
			if err != nil {
				out.Unsure = err.Error()
			}
			return ok(out), nil
		})
}

// planOf is the plan of the draft, or of what is running.
func (s *server) planOf(of string) (*decide.Plan, error) {
	c := s.Revisions.CompiledDraft()
	if of == "running" {
		c, _ = s.Revisions.CompiledRunning()
	}
	if c.Plan == nil {
		return nil, publishProblem(&revision.Invalid{Problems: c.Problems})
	}
	return c.Plan, nil
}

func expectedView(list []revision.Expected) apitype.AllExpected {
	out := apitype.AllExpected{Items: []apitype.Expected{}}
	for _, e := range list {
		out.Items = append(out.Items, apitype.Expected{ID: e.ID, Name: e.Name, State: string(e.State),
			Wanted: e.Wanted, Got: e.Got,
			Ending: e.Ending, Sentence: e.Sentence})
		if e.State == revision.Failed {
			out.Failed++
		}
	}
	return out
}

// unmetFaults names the expectations that failed.
func unmetFaults(u *revision.Unmet) []apitype.Fault {
	var out []apitype.Fault
	for _, e := range u.List {
		out = append(out, apitype.Fault{Field: fmt.Sprintf("expectation %q", e.Name),
			Message: fmt.Sprintf("wanted: %s; it would be: %s", e.Wanted, e.Got), Remedy: e.Sentence})
	}
	return out
}
