package api

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

// SessionFilterInput selects sessions.
type SessionFilterInput struct {
	State   string    `query:"state" enum:"open,ended" default:"open" doc:"open: those that are open; ended: those that ended"`
	User    string    `query:"user" maxLength:"200" doc:"Name; * stands for any characters"`
	MAC     string    `query:"mac" maxLength:"40"`
	Client  string    `query:"client" maxLength:"200"`
	Pass    string    `query:"pass" maxLength:"200" doc:"Pass that was given, of open ones"`
	Address string    `query:"address" maxLength:"60" doc:"IP address, of open ones"`
	Text    string    `query:"q" maxLength:"200" doc:"Text in name, person, MAC, address, client or session"`
	Since   time.Time `query:"since" doc:"Of ended ones: recorded since"`
	Until   time.Time `query:"until"`
}

func (in *SessionFilterInput) open() session.Filter {
	return session.Filter{
		User:    in.User,
		MAC:     inForm(in.MAC),
		Client:  in.Client,
		Pass:    in.Pass,
		Address: in.Address,
		Text:    in.Text,
	}
}

func (in *SessionFilterInput) ended() store.AccountingFilter {
	return store.AccountingFilter{
		User:     in.User,
		MAC:      inForm(in.MAC),
		Client:   in.Client,
		Text:     in.Text,
		Ended:    true,
		Span:     store.Span{Since: in.Since, Until: in.Until},
		Patience: patience,
	}
}

// inForm writes a MAC address as it is kept, however it is typed.
func inForm(mac string) string {
	if formed, ok := facts.FormatMAC(mac); ok {
		return formed
	}
	return mac
}

func sessionView(a *store.Accounted, open bool) apitype.Session {
	id := a.ID
	if a.Of != 0 {
		id = a.Of
	}
	out := apitype.Session{
		ID:      id.String(),
		Open:    open,
		User:    a.Who,
		Person:  a.Display,
		MAC:     a.MAC,
		Address: a.Address,
		Client:  a.Client,
		NAS:     a.NAS,
		Place:   a.Place,
		Lane:    a.Lane,
		Pass:    a.Pass,
		VLAN:    a.VLAN,
		Applied: a.Applied,
		Began:   a.Began,
		Last:    a.At,
		Seconds: a.Seconds,
		In:      a.In,
		Out:     a.Out,
		Note:    a.Note,
		Session: a.Session,
	}
	if !open {
		out.Cause = a.Cause
	}
	return out
}

func (s *server) networkSessions() {
	huma.Register(
		s.api,
		operation("GET", "/sessions", "list-sessions", "Sessions, those that began last first"),
		func(ctx context.Context, in *struct {
			SessionFilterInput
			Before string `query:"before" maxLength:"13" doc:"Cursor"`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
		}) (*body[apitype.SessionPage], error) {
			var before ident.ID
			if in.Before != "" {
				var err error
				if before, err = ident.Parse(in.Before); err != nil {
					return nil, faulty("before", err.Error(), "Use the cursor as it was given.")
				}
			}
			out, err := s.sessionPage(ctx, &in.SessionFilterInput, before, in.Limit)
			return ok(out), err
		},
	)
	huma.Register(s.api, operation("GET", "/sessions/{id}", "get-session", "One session with its story"),
		func(ctx context.Context, in *struct {
			ID string `path:"id" maxLength:"13"`
		}) (*body[apitype.SessionDetail], error) {
			out, err := s.session(ctx, in.ID)
			return ok(out), err
		})
	s.exportSessions()
	s.askSessions()
	s.liveSessions()
	s.differing()
}

// liveSessions registers the stream of what is recorded of sessions.
func (s *server) liveSessions() {
	op := liveOperation("/sessions-live", "follow-sessions", "Records of sessions as they arrive (server-sent "+
		"events); "+
		"Last-Event-ID catches up")
	sse.Register(
		s.api,
		op,
		map[string]any{"record": apitype.SessionRecord{}, "gap": apitype.Gap{}, "beat": Beat{}},
		func(ctx context.Context, in *struct {
			SessionFilterInput
			LastEventID int64 `header:"Last-Event-ID"`
		}, send sse.Sender) {
			f := in.ended()
			f.Ended, f.Reach = false, s.reach(ctx)
			follow(
				ctx,
				s,
				&s.Sessions.Records().Live,
				send,
				ident.ID(in.LastEventID),
				follower[store.Accounted]{
					fits: f.Fits, id: func(a *store.Accounted) ident.ID {
						return a.ID
					}, view: func(a *store.Accounted) any {
						return apitype.SessionRecord{Session: sessionView(a, !a.Ends()), Event: eventView(a)}
					},
					after: func(id ident.ID, limit int) (record.Page[store.Accounted], error) {
						f := f
						f.After, f.Limit, f.Patience = id, limit, patience
						return s.Sessions.Records().Find(ctx, f)
					}},
			)
		},
	)
}

func (s *server) sessionPage(ctx context.Context, in *SessionFilterInput, before ident.ID,
	limit int) (apitype.SessionPage, error) {
	book := s.bookFor(ctx)
	out := apitype.SessionPage{Open: book.Len()}
	if reach := s.reach(ctx); reach != nil {
		theirs, _ := book.List(session.Filter{Reach: reach})
		out.Open = len(theirs)
	}
	if in.State == "ended" {
		f := in.ended()
		f.Before, f.Limit, f.Reach = before, limit, s.reach(ctx)
		page, err := s.accountingFor(ctx).Find(ctx, f)
		if err != nil {
			return out, searchProblem(err)
		}
		out.Page = pageView(&page, func(a *store.Accounted) apitype.Session { return sessionView(a, false) })
		return out, nil
	}
	f := in.open()
	f.Before, f.Limit, f.Reach = before, limit, s.reach(ctx)
	items, next := book.List(f)
	out.Items = make([]apitype.Session, len(items))
	for i, one := range items {
		out.Items[i] = sessionView(&one.Accounted, true)
	}
	if next != 0 {
		out.Next = next.String()
	}
	return out, nil
}

// session is one session with what was recorded of it. Its identifier is that of the record that began it, or of an end
// that belongs to no beginning.
func (s *server) session(ctx context.Context, ref string) (apitype.SessionDetail, error) {
	out := apitype.SessionDetail{Story: []apitype.SessionEvent{}, Earlier: []apitype.Session{}}
	id, err := ident.Parse(ref)
	if err != nil || id == 0 {
		return out, problem(http.StatusNotFound, "there is no session "+ref, "List the sessions to find it.")
	}
	records, class := s.accountingFor(ctx), ""
	first, err := records.Get(ctx, id)
	if err == nil {
		out.Session, class = sessionView(&first, false), first.Class
		out.Story = append(out.Story, eventView(&first))
	}
	more, failed := records.Find(
		ctx,
		store.AccountingFilter{Of: id, Span: store.Span{After: id}, Limit: storyLimit,
			Patience: patience, Bodies: true},
	)
	if failed != nil {
		return out, searchProblem(failed)
	}
	for i := range more.Items {
		a := &more.Items[i]
		out.Story = append(out.Story, eventView(a))
		if a.Kind != store.AccountingAsked || out.ID == "" {
			out.Session, class = sessionView(a, false), a.Class
		}
	}
	if _, of := ctx.Value(copiesKey{}).(int); of { // what was asked here for a node that does not answer
		asked, err := s.Sessions.Records().Find(ctx, store.AccountingFilter{Of: id, Limit: storyLimit,
			Patience: patience, Bodies: true})
		if err != nil {
			return out, searchProblem(err)
		}
		for i := range asked.Items {
			out.Story = append(out.Story, eventView(&asked.Items[i]))
		}
	}
	if now := s.bookFor(ctx).Find(id); now != nil {
		out.Session, class = sessionView(&now.Accounted, true), now.Class
	} else if len(out.Story) == 0 {
		return out, missing(err, "session, or it was removed after its time")
	}
	if !s.sees(ctx, out.Client) {
		w := who(ctx)
		return apitype.SessionDetail{}, outside(&w, out.Client+" is none of them")
	}
	if class != "" {
		if page, err := s.attemptsFor(ctx).List(ctx, store.ByClass(class)); err == nil && len(page.Items) > 0 {
			view := s.attemptView(ctx, &page.Items[0])
			out.Attempt = &view
		}
	}
	earlier, err := records.Find(
		ctx,
		store.AccountingFilter{User: strings.ReplaceAll(out.User, "*", ""), Ended: true,
			Span: store.Span{Before: id}, Limit: 5, Patience: patience, Reach: s.reach(ctx)},
	)
	for i := range earlier.Items {
		out.Earlier = append(out.Earlier, sessionView(&earlier.Items[i], false))
	}
	return out, err
}

// storyLimit bounds the records of a session that are shown.
const storyLimit = 500

func eventView(a *store.Accounted) apitype.SessionEvent {
	out := apitype.SessionEvent{ID: a.ID.String(), At: a.At, Kind: a.Kind, Text: eventText(a), Note: a.Note,
		Seconds: a.Seconds, In: a.In, Out: a.Out, Address: a.Address, Attributes: []facts.Attribute{}}
	if sent := session.Attributes(a); sent != nil {
		out.Attributes = sent
	}
	if a.Kind == store.AccountingAsked {
		out.Note = ""
	}
	return out
}

// eventText says in words what happened.
func eventText(a *store.Accounted) string {
	switch a.Kind {
	case store.AccountingStart:
		return "The client reports the start"
	case store.AccountingInterim:
		return "The client reports that it goes on"
	case store.AccountingStop:
		if a.Cause != "" {
			return "The client reports the end: " + a.Cause
		}
		return "The client reports the end"
	case store.AccountingLost:
		return "Counted as over: " + a.Cause
	case store.AccountingAsked:
		return "Asked by " + a.Cause + ": " + a.Note
	}
	return a.Kind
}

var sessionColumns = []string{
	"id",
	"open",
	"user",
	"person",
	"mac",
	"address",
	"client",
	"nas",
	"place",
	"lane",
	"pass",
	"vlan",
	"applied",
	"began",
	"last",
	"seconds",
	"in",
	"out",
	"cause",
	"note",
	"session",
}

func sessionRow(v *apitype.Session) []string {
	return []string{
		v.ID,
		strconv.FormatBool(v.Open),
		sheet.Quoted(v.User),
		sheet.Quoted(v.Person),
		v.MAC,
		v.Address,
		v.Client,
		sheet.Quoted(
			v.NAS,
		),
		sheet.Quoted(v.Place),
		v.Lane,
		v.Pass,
		v.VLAN,
		sheet.Quoted(v.Applied),
		v.Began.UTC().Format(time.RFC3339),
		v.Last.UTC().Format(time.RFC3339),
		strconv.FormatInt(v.Seconds, 10),
		strconv.FormatInt(v.In, 10),
		strconv.FormatInt(v.Out, 10),
		sheet.Quoted(v.Cause),
		sheet.Quoted(v.Note),
		sheet.Quoted(v.Session),
	}
}

// exportSessions registers the export, the newest first.
func (s *server) exportSessions() {
	huma.Register(s.api, operation("GET", "/sessions-export", "export-sessions",
		"Sessions as a file, the newest first"), func(ctx context.Context, in *struct {
		SessionFilterInput
		Format string `query:"format" enum:"csv,jsonl" default:"csv"`
	}) (*huma.StreamResponse, error) {
		return exportFile(ctx, "sessions", in.Format, sessionColumns, sessionRow, func(ctx context.Context,
			cursor ident.ID) ([]apitype.Session, ident.ID, error) {
			page, err := s.sessionPage(ctx, &in.SessionFilterInput, cursor, exported)
			next, _ := ident.Parse(page.Next) // none at the end
			return page.Items, next, err
		})
	})
}
