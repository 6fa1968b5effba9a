package directory

import (
	"strconv"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"tollgate.example/key/internal/core/results"
)

func TestClock(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for text, want := range map[string]time.Duration{"20261123090000.0Z": 0, "20261123090130.0Z": 90 * time.Second,
		"20261123085400.0Z": -6 * time.Minute} {
		if got, known := (root{ldap.NewEntry("", map[string][]string{"currentTime": {text}})}).clock(now); !known ||
			got != want {
			t.Errorf("%s differs by %v, %v; wanted %v", text, got, known, want)
		}
	}
	for _, text := range []string{"", "now", "2026"} {
		if _, known := (root{ldap.NewEntry("", map[string][]string{"currentTime": {text}})}).clock(now); known {
			t.Errorf("%q is taken for a time", text)
		}
	}
}

func TestWhenAPasswordEnds(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	stamp := func(at time.Time) string { return strconv.FormatInt((at.Unix()+11_644_473_600)*10_000_000, 10) }
	for name, c := range map[string]struct {
		control, ends string
		left          time.Duration
		expires       bool
	}{
		"in ten days":      {"512", stamp(now.AddDate(0, 0, 10)), 240 * time.Hour, true},
		"yesterday":        {"512", stamp(now.AddDate(0, 0, -1)), -24 * time.Hour, true},
		"never, by a flag": {"66048", stamp(now.AddDate(0, 0, 10)), 0, false},
		"never":            {"512", "9223372036854775807", 0, false},
		"not told":         {"512", "", 0, false},
	} {
		left, expires := passwordEnds(ldap.NewEntry("", map[string][]string{"userAccountControl": {c.control},
			"msDS-UserPasswordExpiryTimeComputed": {c.ends}}), now)
		if left != c.left || expires != c.expires {
			t.Errorf("%s: %v, %v", name, left, expires)
		}
	}
}

// A clock that is a minute off is a warning, five minutes a failure.
func TestHowFarClocksMayDiffer(t *testing.T) {
	for ahead, want := range map[time.Duration]results.StepState{0: results.Pass, 59 * time.Second: results.Pass,
		-61 * time.Second: results.Warn, 4 * time.Minute: results.Warn, 301 * time.Second: results.Fail,
		-time.Hour: results.Fail} {
		var last results.Step
		runStep(func(s results.Step) { last = s }, "", results.Step{Key: "clock"}, func(s *results.Step) error {
			return compareClocks(s, ahead)
		})
		if last.State != want || (want != results.Pass) != (last.Remedy != "") {
			t.Errorf("%v: %+v, wanted %s", ahead, last, want)
		}
	}
}
