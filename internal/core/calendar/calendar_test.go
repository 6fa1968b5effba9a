package calendar

import (
	"testing"
	"time"
	_ "time/tzdata"
)

func TestHolds(t *testing.T) {
	weekdays := []string{"mon", "tue", "wed", "thu", "fri"}
	office, faults := Compile("Europe/Lisbon", []Span{{weekdays, "08:00", "18:00"}, {[]string{"fri", "sat"}, "22:00",
		"06:00"}, {[]string{"sun"}, "20:00", "24:00"}},
		[]Holiday{{"2026-12-25", "Christmas"}, {"2026-12-24", ""}})
	if faults != nil {
		t.Fatal(faults)
	}
	for at, want := range map[string]bool{
		"2026-11-23T08:00:00Z": true, // a Monday; Lisbon is at UTC in winter
		"2026-11-23T07:59:59Z": false,
		"2026-11-23T17:59:59Z": true,
		"2026-11-23T18:00:00Z": false,
		"2026-07-06T07:00:00Z": true, // and an hour ahead in summer
		"2026-07-06T17:00:00Z": false,
		"2026-11-21T12:00:00Z": false, // Saturday
		"2026-11-21T03:00:00Z": true,  // the night that began on Friday
		"2026-11-22T05:59:00Z": true,  // and the one that began on Saturday
		"2026-11-22T06:00:00Z": false,
		"2026-11-22T23:59:00Z": true,
		"2026-11-23T00:00:00Z": false,
		"2026-12-24T12:00:00Z": false, // a holiday
		"2026-12-25T23:00:00Z": false, // no night begins on one,
		"2026-12-26T03:00:00Z": false,
		"2026-12-26T23:00:00Z": true, // but the next does
	} {
		moment, err := time.Parse(time.RFC3339, at)
		if err != nil {
			t.Fatal(err)
		}
		if got := office.Holds(moment); got != want {
			t.Errorf("at %s, a %s: %v", at, moment.Weekday(), got)
		}
	}
	if n := testing.AllocsPerRun(100, func() { office.Holds(time.Unix(1_800_000_000, 0)) }); n != 0 {
		t.Errorf("asking allocates %v times", n)
	}
}

func TestFaultsNameTheField(t *testing.T) {
	for _, c := range []struct {
		field, zone string
		spans       []Span
		holidays    []Holiday
	}{
		{"zone", "Lantern/Pier", []Span{{Days, "08:00", "18:00"}}, nil},
		{"zone", "", []Span{{Days, "08:00", "18:00"}}, nil},
		{"spans", "UTC", nil, nil},
		{"spans[0].days", "UTC", []Span{{nil, "08:00", "18:00"}}, nil},
		{"spans[0].days", "UTC", []Span{{[]string{"moon"}, "08:00", "18:00"}}, nil},
		{"spans[0].from", "UTC", []Span{{Days, "24:00", "18:00"}}, nil},
		{"spans[0].from", "UTC", []Span{{Days, "8", "18:00"}}, nil},
		{"spans[0].to", "UTC", []Span{{Days, "08:00", "24:01"}}, nil},
		{"spans[0].to", "UTC", []Span{{Days, "08:00", "-1:00"}}, nil},
		{"holidays[0].date", "UTC", []Span{{Days, "08:00", "18:00"}}, []Holiday{{"2026-02-30", ""}}},
	} {
		made, faults := Compile(c.zone, c.spans, c.holidays)
		if made != nil || len(faults) != 1 || faults[0].Field != c.field || faults[0].Remedy == "" {
			t.Errorf("%+v: %v", c, faults)
		}
	}
}
