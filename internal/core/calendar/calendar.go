// Package calendar tells whether a moment lies in the hours of a named calendar: spans of the week in a time zone, less
// holidays. It has no clock of its own.
package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Days are the days of a week as they are written, Monday first (ISO 8601).
var Days = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// Span is one span of hours on some days of the week.
type Span struct {
	Days []string `json:"days" doc:"mon to sun"`
	// From and To are hh:mm in the zone; a span whose end is not after its beginning ends on the next day.
	From string `json:"from" example:"08:00"`
	To   string `json:"to" example:"18:00" doc:"Not included; before from: on the next day; 24:00 is the end of the day"`
}

// String writes a span as mon, tue 08:00-18:00.
func (s Span) String() string { return strings.Join(s.Days, ", ") + " " + s.From + "-" + s.To }

// Holiday is a day on which no span begins.
type Holiday struct {
	Date string `json:"date" example:"2026-12-25"`
	Name string `json:"name,omitempty"`
}

// String writes a holiday with its name.
func (h Holiday) String() string { return strings.TrimSpace(h.Date + " " + h.Name) }

// Calendar is compiled spans and holidays. It is immutable.
type Calendar struct {
	zone     *time.Location
	spans    []span
	holidays map[int32]bool
}

// span is minutes of the day on days of the week.
type span struct {
	days     [7]bool // by time.Weekday
	from, to int
}

// Fault is something wrong with a field of a calendar.
type Fault struct{ Field, Message, Remedy string }

const (
	maxSpans    = 50
	maxHolidays = 1000
)

// Compile reads a calendar. It is nil if there is any fault.
func Compile(zone string, spans []Span, holidays []Holiday) (*Calendar, []Fault) {
	c := &Calendar{holidays: map[int32]bool{}}
	var faults []Fault
	fail := func(field, message, remedy string) { faults = append(faults, Fault{field, message, remedy}) }
	var err error
	if c.zone, err = time.LoadLocation(zone); err != nil || zone == "" || zone == "Local" {
		fail("zone", fmt.Sprintf("%q is not a time zone", zone), "Use a name of the time zone database, such as "+
			"Europe/Lisbon or UTC.")
	}
	if len(spans) == 0 {
		fail("spans", "no hours, so the calendar never holds", "Add days with a beginning and an end.")
	}
	if len(spans) > maxSpans || len(holidays) > maxHolidays {
		fail("spans", fmt.Sprintf("more than %d spans or %d holidays", maxSpans, maxHolidays), "Remove some.")
		return nil, faults
	}
	for i, s := range spans {
		field := fmt.Sprintf("spans[%d]", i)
		var out span
		if len(s.Days) == 0 {
			fail(field+".days", "no day", "Choose at least one of "+strings.Join(Days, ", ")+".")
		}
		for _, day := range s.Days {
			at := slices.Index(Days, day)
			if at < 0 {
				fail(field+".days", fmt.Sprintf("%q is not a day", day), "Use "+strings.Join(Days, ", ")+".")
				continue
			}
			out.days[(at+1)%7] = true
		}
		var fine bool
		if out.from, fine = clock(s.From); !fine || out.from == 1440 {
			fail(field+".from", fmt.Sprintf("%q is not a time of day", s.From), "Write for instance 08:00.")
		}
		if out.to, fine = clock(s.To); !fine {
			fail(field+".to", fmt.Sprintf("%q is not a time of day", s.To),
				"Write for instance 18:00, or 24:00 for the end of the day.")
		}
		c.spans = append(c.spans, out)
	}
	for i, h := range holidays {
		at, err := time.Parse(time.DateOnly, h.Date)
		if err != nil {
			fail(fmt.Sprintf("holidays[%d].date", i), fmt.Sprintf("%q is not a date", h.Date),
				"Write for instance 2026-12-25.")
			continue
		}
		c.holidays[number(at)] = true
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return c, nil
}

// clock reads hh:mm as minutes, up to 24:00.
func clock(text string) (minutes int, ok bool) {
	h, m, found := strings.Cut(text, ":")
	hours, err := strconv.Atoi(h)
	more, err2 := strconv.Atoi(m)
	if !found || err != nil || err2 != nil || len(h) > 2 || len(m) != 2 || hours < 0 || more < 0 || more > 59 {
		return 0, false
	}
	minutes = 60*hours + more
	return minutes, minutes <= 1440
}

// number tells days apart.
func number(at time.Time) int32 {
	y, m, d := at.Date()
	return int32(y)<<9 | int32(m)<<5 | int32(d)
}

// Holds reports whether the moment lies in a span that did not begin on a holiday. It does not allocate.
func (c *Calendar) Holds(at time.Time) bool {
	at = at.In(c.zone)
	minute := 60*at.Hour() + at.Minute()
	today, holiday := at.Weekday(), len(c.holidays) > 0 && c.holidays[number(at)]
	yesterday := (today + 6) % 7
	for i := range c.spans {
		s := &c.spans[i]
		if s.to > s.from {
			if s.days[today] && !holiday && minute >= s.from && minute < s.to {
				return true
			}
			continue
		}
		if s.days[today] && !holiday && minute >= s.from {
			return true
		}
		if s.days[yesterday] && minute < s.to && !c.holidays[number(at.AddDate(0, 0, -1))] {
			return true
		}
	}
	return false
}

// Edges are moments after the given one, within 15 days and around each holiday, at which the calendar may begin or end
// to hold.
func (c *Calendar) Edges(after time.Time) []time.Time {
	after = after.In(c.zone)
	var days []time.Time
	for i := range 15 {
		days = append(days, after.AddDate(0, 0, i))
	}
	for key := range c.holidays {
		day := time.Date(int(key>>9), time.Month(key>>5&15), int(key&31), 0, 0, 0, 0, c.zone)
		days = append(days, day, day.AddDate(0, 0, 1))
	}
	var out []time.Time
	for _, day := range days {
		y, m, d := day.Date()
		for i := range c.spans {
			for _, minute := range [...]int{c.spans[i].from, c.spans[i].to} {
				out = append(out, time.Date(y, m, d, minute/60, minute%60, 0, 0, c.zone))
			}
		}
	}
	return out
}
