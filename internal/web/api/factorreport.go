package api

import (
	"bytes"
	"context"
	_ "embed"
	"html/template"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/manage/readiness"
	"tollgate.example/key/internal/web/apitype"
)

//go:embed report.html
var reportPage string

var reportTemplate = template.Must(template.New("").Parse(reportPage))

// factorReport tells whether servers and gear are ready for a second factor.
func (s *server) factorReport() {
	huma.Register(s.api, operation("GET", "/factor-report", "get-factor-report",
		"Whether servers, lanes and clients are ready for a second factor, and people by group"),
		func(ctx context.Context, _ *none) (*body[apitype.FactorReport], error) {
			out, err := s.reportNow(ctx)
			if err != nil {
				return nil, err
			}
			return ok(*out), nil
		})
	huma.Register(s.api, operation(
		"GET",
		"/factor-report/file",
		"export-factor-report",
		"The same as one file of HTML, to attach to a ticket",
	), func(ctx context.Context, _ *none) (*fileOutput, error) {
		report, err := s.reportNow(ctx)
		if err != nil {
			return nil, err
		}
		type area struct {
			Name   string
			Checks []apitype.ReportCheck
		}
		var areas []area
		for _, c := range report.Checks {
			if len(areas) == 0 || areas[len(areas)-1].Name != c.Area {
				areas = append(areas, area{Name: c.Area})
			}
			last := &areas[len(areas)-1]
			last.Checks = append(last.Checks, c)
		}
		const layout = "2006-01-02 15:04 MST"
		var b bytes.Buffer
		err = reportTemplate.Execute(&b, map[string]any{"At": report.At.Format(layout), "By": who(ctx).Name,
			"BackTo": report.BackTo.Format(layout), "Areas": areas,
			"Groups": append([]apitype.ReadyGroup{report.Everybody}, report.Groups...)})
		return &fileOutput{"text/html; charset=utf-8", b.Bytes()}, err
	})
}

func (s *server) reportNow(ctx context.Context) (*apitype.FactorReport, error) {
	report, err := s.Ready.Report(ctx, readiness.UsualDays)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	server := &readiness.Server{
		Portal: s.Portal,
		Mail:   s.Mail != nil,
		Now:    now,
		Ends:   s.PortalEnds,
		Own:    s.PortalOwn,
	}
	for _, item := range s.Attention.List(now) {
		if item.Code == attention.ClockSet || item.Code == attention.NodeClock {
			server.Clocks = append(server.Clocks, attentionView(&item).Title)
		}
	}
	view := s.readinessView(report, "", false, 0)
	out := &apitype.FactorReport{At: now, BackTo: report.BackTo, Everybody: view.Everybody, Groups: view.Groups,
		Checks: []apitype.ReportCheck{}}
	for _, c := range readiness.Checks(report, s.Gate.Current().Plan.Config.Lanes, server) {
		out.Checks = append(out.Checks, apitype.ReportCheck{Area: c.Area, Title: c.Title, State: string(c.State),
			Found: c.Found, Remedy: c.Remedy})
	}
	return out, nil
}
