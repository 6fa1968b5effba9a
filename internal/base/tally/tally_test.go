package tally

import (
	"testing"
	"time"
)

func TestMinutesAndMedian(t *testing.T) {
	var c Tally
	at := time.Unix(6_000_000, 0)
	if c.Median() != 0 {
		t.Error("nothing has a median")
	}
	for i := range int64(3000) {
		c.Attempt(at, i%3 > 0, i)
	}
	if got := c.Minute(100_000); got != (Count{2000, 1000}) {
		t.Errorf("counted %+v", got)
	}
	if m := c.Median(); m < 2400 || m > 2600 { // of the newest 1024
		t.Errorf("median %d", m)
	}
	c.Add(100_000+minutes, 1, 0) // the same place, two hours later
	if c.Minute(100_000) != (Count{}) || c.Minute(100_000+minutes) != (Count{1, 0}) {
		t.Error("an old minute shines through")
	}
	c.Add(100_000, 5, 5)
	if c.Minute(100_000+minutes) != (Count{1, 0}) {
		t.Error("a late count overwrites a newer minute")
	}
}
