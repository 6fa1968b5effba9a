package main

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/web/apitype"
)

// moment is a flag that takes a date, or a date and a time, in the local zone; none is not a time.
type moment struct{ time.Time }

func (m *moment) String() string { return "" }
func (m *moment) Set(text string) error {
	if text == "none" || text == "" {
		m.Time = time.Time{}
		return nil
	}
	for _, form := range []string{time.DateOnly, "2006-01-02T15:04", "2006-01-02 15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(form, text, time.Local); err == nil {
			m.Time = at
			return nil
		}
	}
	return fmt.Errorf("%q is not a time; write for instance 2026-12-01 or 2026-12-01T08:00", text)
}

var calendars = kind[apitype.Calendar]{
	noun: "calendar", path: "/calendars",
	headings: []string{"NAME", "ZONE", "HOURS", "HOLIDAYS", "NOW"},
	row: func(c apitype.Calendar) []string {
		return []string{c.Name, c.Zone, spanTexts(c.Spans), fmt.Sprint(len(c.Holidays)),
			map[bool]string{true: "holds"}[c.Holds]}
	},
	show: func(s *invocation, c apitype.Calendar) {
		s.fields([2]string{"name", c.Name}, [2]string{"zone", c.Zone}, [2]string{"hours", spanTexts(c.Spans)},
			[2]string{"holds now", map[bool]string{true: "yes", false: "no"}[c.Holds]}, [2]string{"note", c.Note})
		for _, h := range c.Holidays {
			s.say("  %s", h)
		}
	},
}

func spanTexts(list []calendar.Span) string {
	var out []string
	for _, s := range list {
		out = append(out, strings.Join(s.Days, ",")+" "+s.From+"-"+s.To)
	}
	return strings.Join(out, "; ")
}

// readSpan reads mon,tue 08:00-18:00; mon-fri stands for the days between.
func readSpan(text string) (calendar.Span, error) {
	days, hours, ok := strings.Cut(strings.TrimSpace(text), " ")
	from, to, ok2 := strings.Cut(strings.TrimSpace(hours), "-")
	if !ok || !ok2 {
		return calendar.Span{}, usageError(fmt.Sprintf("%q is not a span; write for instance \"mon-fri 08:00-18:00\"",
			text))
	}
	out := calendar.Span{From: from, To: to, Days: []string{}}
	for _, part := range strings.Split(strings.ToLower(days), ",") {
		first, last, ranged := strings.Cut(part, "-")
		a, b := slices.Index(calendar.Days, first), slices.Index(calendar.Days, last)
		if !ranged || a < 0 || b < 0 {
			out.Days = append(out.Days, part)
			continue
		}
		for i := a; ; i = (i + 1) % 7 {
			out.Days = append(out.Days, calendar.Days[i])
			if i == b {
				break
			}
		}
	}
	return out, nil
}

func calendarCommands() []command {
	return slices.Concat(calendars.commands(), writer("calendar", "/calendars",
		func(f *flag.FlagSet) func(map[string]bool, *apitype.Calendar, string) any {
			var spans spanFlag
			var holidays whole
			f.Var(&spans, "hours", "days and hours, such as \"mon-fri 08:00-18:00\"; repeatable, replaces those there")
			f.Var(&holidays, "holiday", "day on which no hours begin, such as \"2026-12-25 Christmas\"; repeatable, "+
				"replaces")
			name, zone, note := f.String("name", "", "new name"), f.String("zone", "UTC",
				"time zone, such as Europe/Lisbon"), f.String("text", "", "note")
			return func(was map[string]bool, old *apitype.Calendar, label string) any {
				in := apitype.CalendarFields{Zone: *zone, Spans: []calendar.Span{}, Holidays: []calendar.Holiday{}}
				if old != nil {
					in = old.CalendarFields
				}
				in.Name = label
				assign(was, "name", &in.Name, *name)
				assign(was, "zone", &in.Zone, *zone)
				assign(was, "hours", &in.Spans, []calendar.Span(spans))
				assign(was, "text", &in.Note, *note)
				if was["holiday"] {
					in.Holidays = []calendar.Holiday{}
					for _, text := range holidays {
						date, name, _ := strings.Cut(strings.TrimSpace(text), " ")
						in.Holidays = append(in.Holidays, calendar.Holiday{Date: date, Name: name})
					}
				}
				return in
			}
		}, func(c apitype.Calendar) (apitype.Meta, string) { return c.Meta, c.Name }))
}

// spanFlag is a flag of spans.
type spanFlag []calendar.Span

func (l *spanFlag) String() string { return "" }
func (l *spanFlag) Set(text string) error {
	span, err := readSpan(text)
	*l = append(*l, span)
	return err
}
