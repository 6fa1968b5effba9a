package api

import "testing"

func TestFit(t *testing.T) {
	for _, c := range []struct {
		text, query string
		want        int
	}{
		{"np-switch-1", "np-switch-1", fitsWhole}, {"NP-Switch-1", "np-switch-1", fitsWhole},
		{"np-switch-1", "np", fitsStart}, {"np-switch-1", "switch", fitsWord}, {"np-switch-1", "witch", fitsPart},
		{"Kaia Nance", "nance", fitsWord}, {"np-switch-1", "hh", fitsNot}, {"", "x", fitsNot},
		{"Zoë", "ë", fitsPart},
	} {
		if got := fit(c.text, c.query); got != c.want {
			t.Errorf("fit(%q, %q) = %d, not %d", c.text, c.query, got, c.want)
		}
	}
}
