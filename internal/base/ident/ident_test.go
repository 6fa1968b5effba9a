package ident

import (
	"testing"
	"time"
)

func TestIdentifiersSortAndNeverRepeat(t *testing.T) {
	s := NewSource(3)
	at := time.Date(2026, 11, 23, 9, 5, 2, 0, time.UTC)
	last := ID(0)
	for i := range 100_000 {
		when := at
		if i%2 == 1 {
			when = at.Add(-time.Hour) // the clock goes back
		}
		id := s.New(when)
		if id <= last {
			t.Fatalf("%v after %v", id, last)
		}
		last = id
	}
	id := NewSource(0).New(at)
	if !id.Time().Equal(at) || At(at) > id || At(at.Add(time.Millisecond)) <= id {
		t.Errorf("%v is of %v", id, id.Time())
	}
	if a, b := NewSource(1).New(at), NewSource(2).New(at); a == b {
		t.Error("two nodes make the same identifier")
	}
	back, err := Parse(id.String())
	if err != nil || back != id {
		t.Errorf("%s is read as %v, %v", id, back, err)
	}
	for _, bad := range []string{"", "short", "ZZZZZZZZZZZZZ", "000000000000U", "00000000000000"} {
		if _, err := Parse(bad); err == nil {
			t.Errorf("%q is read", bad)
		}
	}
}
