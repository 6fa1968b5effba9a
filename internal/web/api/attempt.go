package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

// FilterInput selects attempts.
type FilterInput struct {
	User    string    `query:"user" maxLength:"200" doc:"Name as looked up; * stands for any characters"`
	MAC     string    `query:"mac" maxLength:"40" doc:"MAC address in any form"`
	Client  string    `query:"client" maxLength:"200"`
	Verdict string    `query:"verdict" enum:"admitted,refused"`
	Reason  string    `query:"reason" maxLength:"60"`
	Lane    string    `query:"lane" maxLength:"200"`
	Text    string    `query:"q" maxLength:"200" doc:"Text in name, person, MAC or client"`
	Since   time.Time `query:"since"`
	Until   time.Time `query:"until"`
}

func (in *FilterInput) filter() (store.Filter, error) {
	f := store.Filter{User: in.User, Client: in.Client, Verdict: in.Verdict, Reason: in.Reason, Lane: in.Lane,
		Text: in.Text, Span: store.Span{Since: in.Since, Until: in.Until}}
	if in.MAC != "" {
		mac, ok := facts.FormatMAC(in.MAC)
		if !ok {
			return f, problem(http.StatusUnprocessableEntity, fmt.Sprintf("%q is not a MAC address", in.MAC),
				"Write for instance 02-00-5E-10-7A-31.", apitype.Fault{Field: "mac", Message: "not a MAC address"})
		}
		f.MAC = mac
	}
	if mac, ok := facts.FormatMAC(in.Text); ok {
		f.Text = mac
	}
	return f, nil
}

func (s *server) attemptView(ctx context.Context, a *store.Attempt) apitype.Attempt {
	return apitype.Attempt{ID: a.ID.String(), At: a.At, Verdict: a.Verdict, Reason: a.Reason,
		Sentence: s.sentence(ctx, a), Client: a.Client, Sent: a.Sent, Person: a.Display,
		User: a.Who, MAC: a.MAC, Where: a.Place, Lane: a.Lane, Policy: a.Policy, Pass: a.Pass, VLAN: a.VLAN,
		Revision: a.Revision, Micros: a.Micros, Class: a.Class, Method: a.Method}
}

// sessionsOf adds the open sessions that attempts led to.
func (s *server) sessionsOf(ctx context.Context, list []apitype.Attempt) {
	at := map[string]*apitype.Attempt{}
	for i := range list {
		if class := list[i].Class; class != "" {
			at[class] = &list[i]
		}
	}
	for class, one := range session.ByClass(s.bookFor(ctx), at) {
		at[class].Session = attemptSession(&one.Accounted, true)
	}
}

func attemptSession(a *store.Accounted, open bool) *apitype.AttemptSession {
	view := sessionView(a, open)
	return &apitype.AttemptSession{ID: view.ID, Open: open, Address: view.Address, VLAN: view.Applied,
		Began: view.Began,
		Last:  view.Last}
}

// sessionOf is the session that an attempt led to, open or not; nil if there is none.
func (s *server) sessionOf(ctx context.Context, class string) *apitype.AttemptSession {
	if class == "" {
		return nil
	}
	if open, _ := s.bookFor(ctx).List(session.Filter{Class: class, Limit: 1}); len(open) > 0 {
		return attemptSession(&open[0].Accounted, true)
	}
	page, err := s.accountingFor(ctx).Find(ctx, store.AccountingFilter{Class: class, Ended: true, Limit: 1,
		Patience: patience})
	if err != nil || len(page.Items) == 0 {
		return nil
	}
	return attemptSession(&page.Items[0], false)
}

// sentence says in words how an attempt ended. What the columns do not tell is decided again from the facts, as for its
// road; if the revision is gone, the reason alone is left.
func (s *server) sentence(ctx context.Context, a *store.Attempt) string {
	if a.Verdict == "admitted" && a.Policy != "" {
		text, _ := reason.Explain(reason.Code(a.Reason), map[string]string{"policy": a.Policy, "pass": a.Pass})
		return text
	}
	var f facts.Facts
	plan, err := s.Revisions.Plan(ctx, a.Revision)
	if err != nil || f.ParseJSON(a.Facts) != nil {
		return a.Reason
	}
	_, text, _ := plan.Explain(&f)
	return text
}

func (s *server) attempts() {
	huma.Register(s.api, operation("GET", "/attempts", "list-attempts", "Attempts, the newest first"),
		func(ctx context.Context, in *struct {
			FilterInput
			Before string `query:"before" maxLength:"13" doc:"Cursor"`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
		}) (*body[apitype.Page[apitype.Attempt]], error) {
			f, err := in.filter()
			if err != nil {
				return nil, err
			}
			if in.Before != "" {
				if f.Before, err = ident.Parse(in.Before); err != nil {
					return nil, problem(
						http.StatusUnprocessableEntity,
						err.Error(),
						"Use the cursor as it was given.",
						apitype.Fault{Field: "before", Message: err.Error()},
					)
				}
			}
			f.Limit, f.Patience, f.Reach = in.Limit, patience, s.reach(ctx)
			page, err := s.attemptsFor(ctx).Find(ctx, f)
			if err != nil {
				return nil, searchProblem(err)
			}
			out := pageView(&page, func(a *store.Attempt) apitype.Attempt { return s.attemptView(ctx, a) })
			s.sessionsOf(ctx, out.Items)
			return ok(out), nil
		})
	huma.Register(s.api, operation("GET", "/attempts/{id}", "get-attempt", "One attempt with its facts and its road"),
		func(ctx context.Context, in *struct {
			ID    string `path:"id" maxLength:"13"`
			Under string `query:"under" enum:"revision,running,draft" default:"revision" doc:"Explain under the revision it was decided with, under what is running, or under the draft"`
		}) (*body[apitype.AttemptDetail], error) {
			if w := who(ctx); in.Under == "draft" && !w.May(operator.Read) {
				return nil, forbidden(w, operator.Read)
			}
			out, err := s.attempt(ctx, in.ID, in.Under)
			return ok(out), err
		})
	s.liveAttempts()
}

func (s *server) attempt(ctx context.Context, ref, under string) (apitype.AttemptDetail, error) {
	var out apitype.AttemptDetail
	id, err := ident.Parse(ref)
	if err != nil {
		return out, problem(http.StatusNotFound, "there is no attempt "+ref, err.Error())
	}
	row, err := s.attemptsFor(ctx).Get(ctx, id)
	if err != nil {
		return out, missing(err, "attempt, or it was removed after its time")
	}
	if !s.sees(ctx, row.Client) {
		w := who(ctx)
		return out, outside(&w, row.Client+" is none of them")
	}
	out.Attempt = s.attemptView(ctx, &row)
	out.Session = s.sessionOf(ctx, row.Class)
	if err := json.Unmarshal(row.Facts, &out.Facts); err != nil {
		return out, fmt.Errorf("the facts of attempt %s: %w", ref, err)
	}
	plan, err := s.planFor(ctx, row.Revision, under)
	if err != nil {
		return out, err
	}
	out.Trace = plan.Trace(&out.Facts)
	out.Under = fmt.Sprintf("revision %d", row.Revision)
	switch under {
	case "draft", "running":
		out.Under = under
	default:
		out.Sentence = out.Trace.Sentence
	}
	earlier, err := s.attemptsFor(ctx).Find(ctx, store.Filter{User: strings.ReplaceAll(row.Who, "*", ""),
		Span: store.Span{Before: id}, Limit: 5, Patience: patience, Reach: s.reach(ctx)})
	out.Earlier = []apitype.Attempt{}
	for i := range earlier.Items {
		out.Earlier = append(out.Earlier, s.attemptView(ctx, &earlier.Items[i]))
	}
	return out, err
}

func (s *server) planFor(ctx context.Context, number int, under string) (*decide.Plan, error) {
	switch under {
	case "running":
		return s.Gate.Current().Plan, nil
	case "draft":
	default:
		return s.Revisions.Plan(ctx, number)
	}
	return s.planOf("draft")
}

func (s *server) liveAttempts() {
	op := liveOperation("/attempts-live", "follow-attempts", "Attempts as they are recorded (server-sent events); "+
		"Last-Event-ID catches up")
	sse.Register(s.api, op, map[string]any{"attempt": apitype.Attempt{}, "gap": apitype.Gap{}, "beat": Beat{}},
		func(ctx context.Context, in *struct {
			FilterInput
			LastEventID int64 `header:"Last-Event-ID"`
		}, send sse.Sender) {
			f, err := in.filter()
			if err != nil {
				return // the same filter was refused when the list was asked for
			}
			f.Reach = s.reach(ctx)
			follow(ctx, s, &s.Attempts.Live, send, ident.ID(in.LastEventID), follower[store.Attempt]{
				fits: f.Fits, id: func(a *store.Attempt) ident.ID { return a.ID }, view: func(a *store.Attempt) any {
					return s.attemptView(ctx, a)
				},
				after: func(id ident.ID, limit int) (record.Page[store.Attempt], error) {
					f := f
					f.After, f.Limit, f.Patience = id, limit, patience
					return s.Attempts.Find(ctx, f)
				}})
		})
}
