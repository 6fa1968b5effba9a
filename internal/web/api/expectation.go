package api

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/manage/revision"
	"tollgate.example/key/internal/web/apitype"
)

const (
	// expectationsTogether bounds how long all expectations may take; what is not checked by then is not.
	expectationsTogether = 20 * time.Second
)

func (s *server) expectations() {
	huma.Register(s.api, operation("GET", "/expectations-check", "check-expectations", "Try every expectation under the draft, or under what is running; nothing is recorded"), func(ctx context.Context, in *struct {
		Of string `query:"of" enum:"draft,running" default:"draft"`
	}) (*body[apitype.AllExpected], error) {
		c := s.Revisions.Draft()
		if in.Of == "running" {
			c, _ = s.Revisions.Running()
		}
		plan, problems := decide.Compile(c)
		if plan == nil {
			return nil, publishProblem(&revision.Invalid{Problems: problems})
		}
		return ok(s.checkExpectations(ctx, plan)), nil
	})
}

// foretell registers asking what an attempt would come to, which need not be an expectation.
func (s *server) foretell() {
	huma.Register(s.api, operation("POST", "/foretell", "foretell", "The road of an attempt that was not made, with the proof taken to be right, under the draft or what is running; nothing is recorded"), func(ctx context.Context, in *struct {
		Of   string `query:"of" enum:"draft,running" default:"draft"`
		Body apitype.ExpectationFields
	}) (*body[apitype.Foretold], error) {
		c := s.Revisions.Draft()
		if in.Of == "running" {
			c, _ = s.Revisions.Running()
		}
		plan, problems := decide.Compile(c)
		if plan == nil {
			return nil, publishProblem(&revision.Invalid{Problems: problems})
		}
		b := &in.Body
		if b.Asks == "" && config.FindMethod(b.Method) == nil {
			return nil, faulty("method", fmt.Sprintf("%q is not a method", b.Method), "Use one of: "+strings.Join(config.Methods, ", ")+".")
		}
		_, f, err := revision.DryRun(ctx, s.Gate, plan, &config.Expectation{Sent: strings.TrimSpace(b.Sent), Client: b.Client, Method: b.Method, Asks: b.Asks, Command: b.Command, Level: b.Level, Attributes: b.Attributes, At: b.At}, time.Now())
		if f == nil {
			return nil, faulty("sent", err.Error(), "Correct it, and ask again.")
		}
		out := apitype.Foretold{Under: in.Of, Facts: *f, Trace: plan.Trace(f)}
		if err != nil {
			out.Unsure = err.Error()
		}
		return ok(out), nil
	})
}

// checkExpectations tries the expectations of a plan.
func (s *server) checkExpectations(ctx context.Context, plan *decide.Plan) apitype.AllExpected {
	ctx, cancel := context.WithTimeout(ctx, expectationsTogether)
	defer cancel()
	out := apitype.AllExpected{Items: []apitype.Expected{}}
	for i := range plan.Config.Expectations {
		e := &plan.Config.Expectations[i]
		one := apitype.Expected{ID: e.ID, Name: e.Name, State: "unchecked", Wanted: wanted(e)}
		d, f, err := revision.DryRun(ctx, s.Gate, plan, e, time.Now())
		if f != nil {
			ending := decide.EndingOf(&d, f)
			one.Ending, one.Got = &ending, got(&ending)
			one.Sentence, _ = reason.Explain(d.Reason, plan.Values(f, &d))
		}
		switch {
		case err != nil:
			one.Sentence = err.Error()
		case meets(e, one.Ending):
			one.State = "met"
		default:
			one.State = "failed"
			out.Failed++
		}
		out.Items = append(out.Items, one)
	}
	return out
}

func wanted(e *config.Expectation) string {
	if !e.Admitted {
		return strings.TrimSpace("refused " + e.Reason)
	}
	text := "admitted"
	if e.Pass != "" {
		text += ", pass " + e.Pass
	}
	if e.VLAN != "" {
		text += ", VLAN " + e.VLAN
	}
	return text
}

func got(e *results.Ending) string {
	if e.Verdict != results.Admitted {
		return "refused " + string(e.Reason)
	}
	text := "admitted, pass " + e.Pass
	if e.VLAN != "" {
		text += ", VLAN " + e.VLAN
	}
	return text
}

func meets(e *config.Expectation, have *results.Ending) bool {
	if e.Admitted != (have.Verdict == results.Admitted) {
		return false
	}
	return (e.Pass == "" || strings.EqualFold(e.Pass, have.Pass)) && (e.VLAN == "" || e.VLAN == have.VLAN) && (e.Reason == "" || e.Reason == string(have.Reason))
}

// unmet is the error of a draft whose expectations are not met.
type unmet struct{ list []apitype.Expected }

func (u *unmet) Error() string { return fmt.Sprintf("%d expectations would not be met", len(u.list)) }

func (u *unmet) faults() []apitype.Fault {
	var out []apitype.Fault
	for _, e := range u.list {
		out = append(out, apitype.Fault{Field: fmt.Sprintf("expectation %q", e.Name), Message: fmt.Sprintf("wanted: %s; it would be: %s", e.Wanted, e.Got), Remedy: e.Sentence})
	}
	return out
}

// publish checks the expectations of the draft and publishes it, unless one fails.
func (s *server) publish(ctx context.Context, note, only string, despite bool) (int, error) {
	for range 3 {
		draft := s.Revisions.Draft()
		if plan, _ := decide.Compile(draft); plan != nil && !despite && len(draft.Expectations) > 0 {
			var failed []apitype.Expected
			for _, e := range s.checkExpectations(ctx, plan).Items {
				if e.State == "failed" {
					failed = append(failed, e)
				}
			}
			if len(failed) > 0 {
				return 0, &unmet{failed}
			}
		}
		number, err := s.Revisions.Publish(ctx, who(ctx).Name, note, only, draft)
		if !errors.Is(err, revision.ErrChanged) {
			return number, err
		}
	}
	return 0, revision.ErrChanged
}
