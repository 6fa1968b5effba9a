package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"tollgate.example/key/internal/base/ident"
	"tollgate.example/key/internal/core/chain"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

// AuditFilterInput selects lines of the audit.
type AuditFilterInput struct {
	Who    string    `query:"who" maxLength:"200" doc:"Operator; * stands for any characters"`
	Kind   string    `query:"kind" maxLength:"60" doc:"Kind of what was changed, such as lane, account, operator, revision"`
	Object string    `query:"object" maxLength:"100" doc:"Identifier of what was changed"`
	Name   string    `query:"name" maxLength:"200" doc:"Name of what was changed; * stands for any characters"`
	Result string    `query:"result" enum:"done,refused,failed"`
	Text   string    `query:"q" maxLength:"200" doc:"Text anywhere in the line"`
	Since  time.Time `query:"since"`
	Until  time.Time `query:"until"`
}

func (in *AuditFilterInput) filter() store.AuditFilter {
	return store.AuditFilter{Who: in.Who, Kind: in.Kind, Object: in.Object, Name: in.Name, Result: in.Result,
		Text: in.Text, Since: audit.Moment(in.Since), Until: audit.Moment(in.Until)}
}

// auditView shows a line as lists do.
func auditView(l *audit.Line) apitype.AuditLine {
	at, _ := time.Parse(time.RFC3339, l.At)
	out := apitype.AuditLine{
		ID:      ident.ID(l.Number).String(),
		Number:  l.Number,
		At:      at,
		Who:     l.Who,
		Role:    l.Role,
		From:    l.Actor.From,
		How:     l.How,
		Call:    l.Call,
		What:    l.What,
		Kind:    l.Kind,
		Object:  l.Object,
		Name:    l.Name,
		Result:  l.Result,
		Why:     l.Why,
		Changes: []apitype.AuditChange{},
	}
	for _, c := range l.Changes {
		out.Changes = append(out.Changes, apitype.AuditChange(c))
	}
	return out
}

// findAudit lists lines as a page of records.
func (s *server) findAudit(ctx context.Context, f store.AuditFilter) (page record.Page[audit.Line], err error) {
	lines, stopped, unreadable, err := s.Audit.Find(ctx, f, patience)
	page.Items, page.Unreadable = lines, unreadable
	switch {
	case stopped != 0:
		page.Next = ident.ID(stopped)
		if row, _, err := s.Audit.Get(ctx, stopped); err == nil {
			page.Searched = auditView(&row).At
		}
	case len(lines)+unreadable >= f.Limit && len(lines) > 0:
		page.Next = ident.ID(lines[len(lines)-1].Number)
	}
	return page, err
}

func (s *server) auditCalls() {
	huma.Register(s.api, operation("GET", "/audit", "list-audit", "Who did what, the newest first"),
		func(ctx context.Context, in *struct {
			AuditFilterInput
			AtNodeInput
			Before string `query:"before" maxLength:"13" doc:"Cursor"`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
		}) (*body[apitype.Page[apitype.AuditLine]], error) {
			f := in.filter()
			if in.Before != "" {
				before, err := ident.Parse(in.Before)
				if err != nil {
					return nil, problem(
						http.StatusUnprocessableEntity,
						err.Error(),
						"Use the cursor as it was given.",
						apitype.Fault{Field: "before", Message: err.Error()},
					)
				}
				f.Before = int64(before)
			}
			f.Limit = in.Limit
			page, err := s.findAudit(ctx, f)
			if err != nil {
				return nil, err
			}
			return ok(pageView(&page, auditView)), nil
		})
	huma.Register(s.api, operation(
		"GET",
		"/audit/{number}",
		"get-audit-line",
		"One line of the audit, with what was changed as it was before and as it is since",
	), func(ctx context.Context,
		in *struct {
			AtNodeInput
			Number int64 `path:"number" minimum:"1"`
		}) (*body[apitype.AuditLine], error) {
		line, hash, err := s.Audit.Get(ctx, in.Number)
		if err != nil {
			return nil, missing(err, "line, or it was removed after its time")
		}
		out := auditView(&line)
		out.Before, out.After, out.Hash = line.Before, line.After, hash
		return ok(out), nil
	})
	huma.Register(s.api, operation("GET", "/audit-head", "get-audit-head",
		"Where the audit stands now, signed: noted elsewhere, it shows later whether a line was changed"),
		func(ctx context.Context, _ *AtNodeInput) (*body[chain.Head], error) {
			head, err := s.Audit.Head(ctx)
			if err != nil {
				return nil, err
			}
			return ok(head), nil
		})
	huma.Register(s.api, operation("POST", "/audit-verify", "verify-audit",
		"Check that no line of the audit was changed, removed, put in or moved"), func(ctx context.Context,
		in *struct {
			AtNodeInput
			Body apitype.AuditNoted
		}) (*body[apitype.AuditVerification], error) {
		if in.Body.Head != nil {
			if err := in.Body.Head.Check(); err != nil {
				return nil, faulty("head", err.Error(), "Give the head as it was noted.")
			}
		}
		began := time.Now()
		report, err := s.Audit.Verify(ctx, in.Body.Head)
		if errors.Is(err, audit.ErrBusy) {
			return nil, problem(http.StatusServiceUnavailable, err.Error(), "Try again in a moment.")
		}
		if err != nil {
			return nil, err
		}
		head, err := s.Audit.Head(ctx)
		if err != nil {
			return nil, err
		}
		return ok(apitype.AuditVerification{Report: report, Intact: report.Broken == 0, Head: head,
			Millis: time.Since(began).Milliseconds()}), nil
	})
	s.exportAudit()
	s.liveAudit()
}

// auditRow is one line of an exported audit.
type auditRow struct {
	chain.Row
	view apitype.AuditLine
}

var auditColumns = []string{
	"number",
	"at",
	"who",
	"role",
	"from",
	"how",
	"call",
	"what",
	"kind",
	"object",
	"name",
	"result",
	"why",
	"changes",
	"hash",
}

func auditCells(r *auditRow) []string {
	l := &r.view
	var changes []string
	for _, c := range l.Changes {
		changes = append(changes, c.Field+": "+strings.TrimPrefix(c.Before+" -> "+c.After, " -> "))
	}
	return []string{
		strconv.FormatInt(l.Number, 10),
		l.At.UTC().Format(time.RFC3339Nano),
		sheet.Quoted(l.Who),
		l.Role,
		l.From,
		sheet.Quoted(l.How),
		l.Call,
		sheet.Quoted(l.What),
		l.Kind,
		l.Object,
		sheet.Quoted(l.Name),
		l.Result,
		sheet.Quoted(l.Why),
		sheet.Quoted(strings.Join(changes, "\n")),
		r.Hash,
	}
}

// exportAudit registers the export, the oldest first. Lines of JSON hold what the hashes cover, so that the file can be
// checked by itself.
func (s *server) exportAudit() {
	huma.Register(s.api, operation("GET", "/audit-export", "export-audit",
		"The audit as a file, the oldest first; as JSON lines it can be checked where there is no service"),
		func(ctx context.Context, in *struct {
			AuditFilterInput
			AtNodeInput
			Format string `query:"format" enum:"csv,jsonl" default:"jsonl"`
		}) (*huma.StreamResponse, error) {
			f := in.filter()
			f.Limit = exported
			return exportFile(ctx, "audit", in.Format, auditColumns, auditCells, func(ctx context.Context,
				cursor ident.ID) (out []auditRow, next ident.ID, err error) {
				f.After, f.Oldest = int64(cursor), true
				rows, stopped, err := s.Store.Audit(ctx, f, func() bool { return true })
				if err != nil {
					return nil, 0, fmt.Errorf("reading the audit: %w", err)
				}
				before := chain.Sum{}
				for i, row := range rows {
					if i > 0 && rows[i-1].Number == row.Number-1 {
						before = chain.SumOf(rows[i-1].Hash)
					} else if prior, err := s.Store.AuditBefore(ctx, row.Number); err == nil {
						before = chain.SumOf(prior.Hash)
					} else if !errors.Is(err, store.ErrNotFound) {
						return nil, 0, err
					} else {
						before = s.Audit.Origin(ctx, row.Number)
					}
					one := auditRow{Row: chain.Row{Line: row.Line, Before: before.String(),
						Hash: chain.SumOf(row.Hash).String()}}
					var line audit.Line
					if json.Unmarshal(row.Line, &line) == nil {
						one.view = auditView(&line)
					}
					out = append(out, one)
				}
				if next = ident.ID(stopped); len(rows) == f.Limit {
					next = ident.ID(rows[len(rows)-1].Number)
				}
				return out, next, nil
			})
		})
}

func (s *server) liveAudit() {
	op := liveOperation(
		"/audit-live",
		"follow-audit",
		"Lines of the audit as they are recorded (server-sent events); "+
			"Last-Event-ID catches up",
	)
	sse.Register(s.api, op, map[string]any{"line": apitype.AuditLine{}, "gap": apitype.Gap{}, "beat": Beat{}},
		func(ctx context.Context, in *struct {
			AuditFilterInput
			AtNodeInput
			LastEventID int64 `header:"Last-Event-ID"`
		}, send sse.Sender) {
			f := in.filter()
			follow(ctx, s, &s.Audit.Live, send, ident.ID(in.LastEventID), follower[audit.Line]{
				fits: func(l *audit.Line) bool { return audit.Fits(&f, l) },
				id:   func(l *audit.Line) ident.ID { return ident.ID(l.Number) },
				view: func(l *audit.Line) any { return auditView(l) },
				after: func(id ident.ID, limit int) (record.Page[audit.Line], error) {
					f := f
					f.After, f.Limit, f.Oldest = int64(id), limit, true
					return s.findAudit(ctx, f)
				}})
		})
}
