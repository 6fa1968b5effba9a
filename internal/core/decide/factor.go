package decide

import (
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

// NeedsCode reports whether somebody has to give a one-time code in the lane, beside the credential. Gear that asks
// about somebody whom it has signed in proves nothing again, and an emergency account stands for itself: its password
// lies in an envelope.
func (l *Lane) NeedsCode(f *facts.Facts) bool {
	p := f.Subject()
	return l.SecondFactor == config.OneTimeCode && !f.Vouched() && (p == nil || p.Kind != facts.EmergencyAccount)
}

// factor is what the second factor comes to, OK where the lane asks for none.
func (l *Lane) factor(f *facts.Facts) reason.Code {
	switch {
	case !l.NeedsCode(f):
		return reason.OK
	case f.Factor == nil:
		return reason.FactorMissing
	}
	return f.Factor.Outcome
}

// fillFactor fills the station of the second factor.
func fillFactor(s *results.Station, f *facts.Facts, d *Decision) {
	if d.Lane == nil || !d.Lane.NeedsCode(f) {
		s.Value, s.State = "not asked", results.NotAsked
		return
	}
	s.Value, s.Wanted, s.Found = "one-time code", "a code that fits and was not used before", "none came"
	if f.Factor == nil {
		return
	}
	s.Micros = f.Factor.Micros
	if s.Found = f.Factor.Detail; s.Found == "" {
		s.Found = string(f.Factor.Outcome)
	}
}
