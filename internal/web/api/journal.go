package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

// EntryFilterInput selects entries of the journal.
type EntryFilterInput struct {
	User    string    `query:"user" maxLength:"200" doc:"Name as looked up; * stands for any characters"`
	Client  string    `query:"client" maxLength:"200"`
	Kind    string    `query:"kind" maxLength:"60" doc:"login, enable, shell, command, start, stop, update; record for all three of the last"`
	Verdict string    `query:"verdict" enum:"admitted,refused"`
	Task    string    `query:"task" maxLength:"250"`
	Text    string    `query:"q" maxLength:"200" doc:"Text in command, person, client or arguments"`
	Since   time.Time `query:"since"`
	Until   time.Time `query:"until"`
}

func (in *EntryFilterInput) filter() store.EntryFilter {
	return store.EntryFilter{Who: in.User, Client: in.Client, Kind: in.Kind, Verdict: in.Verdict, Task: in.Task,
		Text: in.Text, Span: store.Span{Since: in.Since, Until: in.Until}}
}

func entryView(e *store.Entry) apitype.JournalEntry {
	out := apitype.JournalEntry{ID: e.ID.String(), At: e.At, Kind: e.Kind, What: what(e),
		Client: e.Client, User: e.Who, Person: e.Display, From: e.Origin, Port: e.Port, Command: e.Command,
		Verdict: e.Verdict,
		Reason:  e.Reason, Pass: e.Pass, Line: e.Line, Level: e.Level, Task: e.Task, Args: []string{}, Trial: e.Trial,
		Sentence: e.Sentence}
	if e.Args != nil {
		out.Args = e.Args
	}
	return out
}

// what says what an entry is about.
func what(e *store.Entry) string {
	switch {
	case e.Kind == facts.AsksEnable:
		return fmt.Sprintf("enable, level %d", e.Level)
	case e.Verdict != "":
		return e.Kind
	case e.Command != "":
		return "command " + e.Kind
	}
	for _, a := range e.Args {
		if service, is := strings.CutPrefix(a, "service="); is && service != "" {
			return service + " " + e.Kind
		}
	}
	return e.Kind
}

func (s *server) journal() {
	huma.Register(s.api, operation("GET", "/journal", "list-journal", "The gear journal, the newest first"),
		func(ctx context.Context, in *struct {
			EntryFilterInput
			Before string `query:"before" maxLength:"13" doc:"Cursor"`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
		}) (*body[apitype.Page[apitype.JournalEntry]], error) {
			f := in.filter()
			var err error
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
			page, err := s.journalFor(ctx).Find(ctx, f)
			if err != nil {
				return nil, searchProblem(err)
			}
			return ok(pageView(&page, entryView)), nil
		})
	huma.Register(s.api, operation("GET", "/journal/{id}", "get-journal-entry",
		"One entry, with the attempt that shows its road"), func(ctx context.Context, in *struct {
		ID string `path:"id" maxLength:"13"`
	}) (*body[apitype.JournalEntry], error) {
		id, err := ident.Parse(in.ID)
		if err != nil {
			return nil, problem(http.StatusNotFound, "there is no entry "+in.ID, err.Error())
		}
		row, err := s.journalFor(ctx).Get(ctx, id)
		if err != nil {
			return nil, missing(err, "entry, or it was removed after its time")
		}
		if !s.sees(ctx, row.Client) {
			w := who(ctx)
			return nil, outside(&w, row.Client+" is none of them")
		}
		out := entryView(&row)
		out.Attempt = s.attemptOf(ctx, &row)
		return ok(out), nil
	})
	s.exportJournal()
	s.liveJournal()
}

// attemptOf finds the attempt of an entry: both hold the moment at which it was asked. It is "" for what gear reported,
// and for attempts that are gone already, or are not recorded yet.
func (s *server) attemptOf(ctx context.Context, e *store.Entry) string {
	if e.Verdict == "" {
		return ""
	}
	page, err := s.attemptsFor(ctx).Find(ctx, store.Filter{User: strings.ReplaceAll(e.Who, "*", ""), Client: e.Client,
		Reason: e.Reason, Span: store.Span{Since: e.At, Until: e.At.Add(time.Microsecond)}, Limit: 1,
		Patience: patience})
	if err != nil || len(page.Items) == 0 {
		return ""
	}
	return page.Items[0].ID.String()
}

var journalColumns = []string{
	"id",
	"at",
	"kind",
	"client",
	"user",
	"person",
	"from",
	"port",
	"command",
	"verdict",
	"reason",
	"sentence",
	"pass",
	"line",
	"level",
	"task",
	"arguments",
	"trial",
}

func journalRow(e *apitype.JournalEntry) []string {
	return []string{
		e.ID,
		e.At.UTC().Format(time.RFC3339Nano),
		sheet.Quoted(e.Kind),
		e.Client,
		sheet.Quoted(e.User),
		sheet.Quoted(e.Person),
		sheet.Quoted(
			e.From,
		),
		sheet.Quoted(e.Port),
		sheet.Quoted(e.Command),
		e.Verdict,
		e.Reason,
		sheet.Quoted(e.Sentence),
		e.Pass,
		e.Line,
		strconv.Itoa(e.Level),
		sheet.Quoted(e.Task),
		sheet.Quoted(strings.Join(e.Args, " ")),
		fmt.Sprint(e.Trial),
	}
}

// exportJournal registers the export, the oldest first.
func (s *server) exportJournal() {
	huma.Register(s.api, operation("GET", "/journal-export", "export-journal",
		"The gear journal as a file, the oldest first"), func(ctx context.Context, in *struct {
		EntryFilterInput
		Format string `query:"format" enum:"csv,jsonl" default:"csv"`
	}) (*huma.StreamResponse, error) {
		f := in.filter()
		f.Limit, f.Reach = exported, s.reach(ctx)
		return exportFile(ctx, "journal", in.Format, journalColumns, journalRow, func(ctx context.Context,
			cursor ident.ID) ([]apitype.JournalEntry, ident.ID, error) {
			f.After = max(cursor, 1)
			page, err := s.journalFor(ctx).Find(ctx, f)
			if err != nil {
				return nil, 0, searchProblem(err)
			}
			return pageView(&page, entryView).Items, page.Next, nil
		})
	})
}

func (s *server) liveJournal() {
	op := liveOperation("/journal-live", "follow-journal", "Entries of the gear journal as they are recorded "+
		"(server-sent events); Last-Event-ID catches up")
	sse.Register(s.api, op, map[string]any{"entry": apitype.JournalEntry{}, "gap": apitype.Gap{}, "beat": Beat{}},
		func(ctx context.Context, in *struct {
			EntryFilterInput
			LastEventID int64 `header:"Last-Event-ID"`
		}, send sse.Sender) {
			f := in.filter()
			f.Reach = s.reach(ctx)
			follow(ctx, s, &s.Journal.Live, send, ident.ID(in.LastEventID), follower[store.Entry]{
				fits: f.Fits, id: func(e *store.Entry) ident.ID { return e.ID }, view: func(e *store.Entry) any {
					return entryView(e)
				},
				after: func(id ident.ID, limit int) (record.Page[store.Entry], error) {
					f := f
					f.After, f.Limit, f.Patience = id, limit, patience
					return s.Journal.Find(ctx, f)
				}})
		})
}
