package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tollgate.example/key/internal/manage/change"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/web/apitype"
)

const (
	// askPath asks for all sessions that a filter selects, askEnd ends the path that asks for one.
	askPath = "/sessions-ask"
	askEnd  = "/ask"
	// differingPath is what the lanes that follow changes would ask for.
	differingPath = "/sessions-differing"
	// askPatience is how long nodes may take to ask for many sessions: clients that are mute take seconds each.
	askPatience = 3 * time.Minute
	maxAskBody  = 64 << 10
)

// asksSession tells that a call asks for one session.
func asksSession(method, path string) bool {
	return method == http.MethodPost && strings.HasPrefix(path, "/sessions/") && strings.HasSuffix(path, askEnd)
}

// askEverywhere asks for the sessions of all nodes that a filter selects: each node asks for those that were reported
// to it. For those of one that does not answer, a node asks that has copies of its records.
func (s *server) askEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler) {
	var in apitype.SessionsAsk
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxAskBody))
	if err != nil || json.Unmarshal(text, &in) != nil { // the handler says what is wrong with it
		r.Body = io.NopCloser(bytes.NewReader(text))
		next.ServeHTTP(w, r)
		return
	}
	really := !in.Preview
	in.Preview = true
	look, _ := json.Marshal(in)
	list, ok := s.gather(w, r, next, look, nodePatience)
	if !ok {
		return
	}
	list = s.withCopies(r, list, next, look)
	out, counts := addAnswers(list)
	switch {
	case !really:
	case out.Count > maxAsked:
		p := tooMany(out.Count)
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusUnprocessableEntity)
		json.NewEncoder(w).Encode(p)
		return
	default:
		done, ok := s.gather(w, r, next, text, askPatience)
		if !ok {
			return
		}
		for i := range list {
			switch {
			case i < len(done) && list[i].copied == nil:
				list[i].body = done[i].body
			case list[i].copied != nil && counts[i] > 0:
				ctx, cancel := context.WithTimeout(r.Context(), askPatience)
				one := s.copyAt(within(r.WithContext(ctx), list[i].number, text), list[i].holder, next)
				cancel()
				if list[i].body = nil; one != nil {
					list[i].body = one.body
				}
			}
		}
		out, _ = addAnswers(list)
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(out)
}

// differEverywhere lists what would be asked for by rule, of all nodes: each follows the sessions reported to it.
func (s *server) differEverywhere(w http.ResponseWriter, r *http.Request, next http.Handler) {
	list, ok := s.gather(w, r, next, nil, askPatience)
	if !ok {
		return
	}
	out := apitype.DifferingSessions{All: true, Items: []apitype.DifferingSession{}}
	for _, one := range list {
		var part apitype.DifferingSessions
		if one.body == nil || json.Unmarshal(one.body, &part) != nil {
			out.All, out.Missing = false, append(out.Missing, one.node)
			continue
		}
		out.Looked, out.All, out.Items = out.Looked+part.Looked, out.All && part.All, append(out.Items, part.Items...)
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(out)
}

// addAnswers adds up what nodes answer, and how many sessions each has.
func addAnswers(list []gathered) (out apitype.SessionsAnswer, counts []int) {
	out.Answers, counts = []apitype.SessionAnswer{}, make([]int, len(list))
	for i, one := range list {
		var part apitype.SessionsAnswer
		if one.body == nil || json.Unmarshal(one.body, &part) != nil {
			out.Missing = append(out.Missing, one.node)
			continue
		}
		counts[i] = part.Count
		out.Count, out.Done = out.Count+part.Count, out.Done+part.Done
		out.Answers = append(out.Answers, part.Answers...)
	}
	return out, counts
}

func tooMany(count int) error {
	return problem(http.StatusUnprocessableEntity, fmt.Sprintf("%d sessions are more than %d at once", count, maxAsked),
		"Narrow the filter, such as by client.")
}

// askOfCopies asks for a session of a node that does not answer, by the node that has the latest copies of its records;
// nil if none has. Who may not look at the session is told so.
func (s *server) askOfCopies(r *http.Request, node int, body []byte, next http.Handler) (refused *kept) {
	ctx, cancel := context.WithTimeout(r.Context(), askPatience)
	defer cancel()
	r = r.WithContext(ctx)
	var by *gathered
	for _, n := range s.holders(node) {
		there := s.answerOf(within(looksAt(r, strings.TrimSuffix(r.URL.Path, askEnd)), node, nil), n, next)
		switch {
		case there == nil:
		case there.status == http.StatusOK:
			if one := copyFrom(there, n); by == nil || after(one.copied.Until, by.copied.Until) {
				by = one
			}
		case there.status == http.StatusForbidden:
			refused = there
		}
	}
	if by == nil {
		return refused
	}
	return s.answerOf(within(r, node, body), by.holder, next)
}

// looksAt is a call that asks for what a path is about, on behalf of who makes another call.
func looksAt(r *http.Request, path string) *http.Request {
	route := chi.NewRouteContext() // the one there is leads to the other call
	route.RouteMethod, route.RoutePath = http.MethodGet, strings.TrimPrefix(path, "/api/v1")
	look := r.Clone(context.WithValue(r.Context(), chi.RouteCtxKey, route))
	look.Method, look.URL.Path, look.URL.RawPath = http.MethodGet, path, ""
	return look
}

// within is a call that is about copies of what a node recorded.
func within(r *http.Request, node int, body []byte) *http.Request {
	r = r.WithContext(context.WithValue(r.Context(), copiesKey{}, node))
	r.Body = io.NopCloser(bytes.NewReader(body))
	return r
}

// changesFor asks clients for the sessions that a call is about.
func (s *server) changesFor(ctx context.Context) *change.Keeper {
	if _, of := ctx.Value(copiesKey{}).(int); of {
		return s.Changes.Of(copiedSessions{s.bookFor(ctx), s.Sessions, s.accountingFor(ctx)}, s.attemptsFor(ctx))
	}
	return s.Changes
}

// copiedSessions are those of another node. What their clients answer is recorded here.
type copiedSessions struct {
	*session.Book
	here    *session.Sessions
	records *store.Accounting
}

// Asked implements change.Sessions.
func (c copiedSessions) Asked(ctx context.Context, one *session.Session, a session.Asked) error {
	return c.here.Asked(ctx, one, a)
}

// Records implements change.Sessions.
func (c copiedSessions) Records() *store.Accounting { return c.records }

var _ change.Sessions = copiedSessions{}
