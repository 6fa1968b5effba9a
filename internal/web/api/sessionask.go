package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/manage/change"
	"tollgate.example/key/internal/manage/operator"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/web/apitype"
)

// asksAtOnce bounds how many clients are asked at a time, maxAsked how many sessions in one call.
const (
	asksAtOnce = 16
	maxAsked   = 500
)

func (s *server) askSessions() {
	huma.Register(s.api, operation("POST", "/sessions/{id}/ask", "ask-session",
		"Ask the client to disconnect a session, to authenticate it again, or to change its pass"),
		func(ctx context.Context, in *struct {
			ID   string `path:"id" maxLength:"13"`
			Body apitype.SessionAsk
		}) (*body[apitype.SessionAnswer], error) {
			id, err := ident.Parse(in.ID)
			if err != nil || s.bookFor(ctx).Find(id) == nil {
				return nil, problem(http.StatusNotFound, "session "+in.ID+" is not open",
					"List the open ones; it may have ended.")
			}
			if err := s.checkAsk(ctx, &in.Body); err != nil {
				return nil, err
			}
			one := s.bookFor(ctx).Find(id)
			if one != nil && !s.sees(ctx, one.Client) {
				w := who(ctx)
				return nil, outside(&w, one.Client+" is none of them")
			}
			if err := s.noteAsk(ctx, &in.Body, one); err != nil {
				return nil, err
			}
			return ok(s.ask(ctx, one, &in.Body)), nil
		})
	huma.Register(
		s.api,
		operation("POST", "/sessions-ask", "ask-sessions",
			"Ask for all sessions that a filter selects; with preview, count them"),
		func(ctx context.Context, in *struct{ Body apitype.SessionsAsk }) (*body[apitype.SessionsAnswer], error) {
			if err := s.checkAsk(ctx, &in.Body.SessionAsk); err != nil {
				return nil, err
			}
			f := session.Filter{User: in.Body.User, MAC: inForm(in.Body.MAC), Client: in.Body.Client,
				Pass: in.Body.OfPass, Address: in.Body.Address, Text: in.Body.Text, Reach: s.reach(ctx)}
			list, _ := s.bookFor(ctx).List(f)
			out := apitype.SessionsAnswer{Count: len(list), Answers: []apitype.SessionAnswer{}}
			switch {
			case in.Body.Preview:
				audit.Of(ctx).Skip()
				return ok(out), nil
			case len(list) > maxAsked:
				return nil, tooMany(len(list))
			}
			if err := s.noteAsk(ctx, &in.Body.SessionAsk, list...); err != nil {
				return nil, err
			}
			out.Answers = s.askAll(ctx, list, &in.Body.SessionAsk)
			for _, a := range out.Answers {
				if a.Done {
					out.Done++
				}
			}
			return ok(out), nil
		},
	)
}

// differing registers the preview of what would be asked for by rule.
func (s *server) differing() {
	huma.Register(s.api, operation("GET", "/sessions-differing", "list-differing-sessions",
		"Open sessions whose people "+
			"would now get something else: what the lanes that follow changes ask for by themselves"),
		func(ctx context.Context, in *struct {
			Lane  string `query:"lane" maxLength:"200"`
			Limit int    `query:"limit" minimum:"1" maximum:"2000" default:"500" doc:"How many sessions to look at"`
		}) (*body[apitype.DifferingSessions], error) {
			list, next := s.Sessions.List(session.Filter{Lane: in.Lane, Limit: in.Limit})
			out := apitype.DifferingSessions{
				Looked: len(list),
				All:    next == 0,
				Items:  []apitype.DifferingSession{},
			}
			for _, one := range list {
				why, err := s.Follower.Differs(ctx, one)
				if err != nil {
					return nil, err
				}
				if why != "" {
					out.Items = append(
						out.Items,
						apitype.DifferingSession{Session: sessionView(&one.Accounted, true),
							Why: why},
					)
				}
			}
			return ok(out), nil
		})
}

// noteAsk records what is asked of which sessions before a packet is sent.
func (s *server) noteAsk(ctx context.Context, in *apitype.SessionAsk, list ...*session.Session) error {
	e := audit.Of(ctx)
	what := map[change.Action]string{change.Disconnect: "disconnect", change.Reauthenticate: "authenticate again",
		change.ChangePass: "give pass " + in.Pass + " to"}[change.Action(in.Action)]
	if len(list) == 1 && list[0] != nil {
		one := list[0]
		e.On("session", one.ID.String(), one.Who).
			Say(fmt.Sprintf("asked %s to %s the session of %s", one.Client, what,
				cmp.Or(one.Who, one.MAC)))
	} else {
		e.On("session", "", "").Say(fmt.Sprintf("asked their clients to %s %d sessions", what, len(list)))
		var names []audit.Change
		for _, one := range list {
			names = append(names, audit.Change{Field: one.ID.String(), After: one.Who + " on " + one.Client})
		}
		e.Listed(names, nil, nil)
	}
	if err := e.Now(ctx); err != nil {
		return unrecorded(err)
	}
	return nil
}

func (s *server) checkAsk(ctx context.Context, in *apitype.SessionAsk) error {
	// another pass is another decision than the policies make
	if w := who(ctx); in.Action == string(change.ChangePass) && !w.May(operator.Configure) {
		return forbidden(w, operator.Configure)
	}
	if in.Action == string(change.ChangePass) && s.Gate.Current().Plan.Pass(in.Pass) == nil {
		return faulty(
			"pass",
			fmt.Sprintf("there is no pass %q in effect", in.Pass),
			"Name one that is published.",
		)
	}
	return nil
}

func (s *server) askAll(
	ctx context.Context,
	list []*session.Session,
	in *apitype.SessionAsk,
) []apitype.SessionAnswer {
	out := make([]apitype.SessionAnswer, len(list))
	places := make(chan struct{}, asksAtOnce)
	var all sync.WaitGroup
	for i, one := range list {
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			out[i] = s.ask(ctx, one, in)
		})
	}
	all.Wait()
	return out
}

func (s *server) ask(ctx context.Context, one *session.Session, in *apitype.SessionAsk) apitype.SessionAnswer {
	out := apitype.SessionAnswer{User: "", Answer: "the session is not open any more"}
	if one == nil {
		return out
	}
	out.ID, out.User, out.Client = one.ID.String(), one.Who, one.Client
	got, err := s.changesFor(ctx).Ask(ctx, one.ID, change.Action(in.Action), in.Pass, who(ctx).Name)
	out.Done, out.Answer, out.Cause, out.Tries, out.Micros = got.Done, got.Answer, got.Cause, got.Tries, got.Took
	if err != nil {
		out.Done, out.Answer = false, err.Error()
		if errors.Is(err, change.ErrGone) {
			out.Answer = "the session is not open any more"
		}
	}
	return out
}
