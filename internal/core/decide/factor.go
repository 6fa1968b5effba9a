package decide

import (
	"fmt"
	"math"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

// NeedsFactor reports whether somebody has to show a second factor in a lane, beside the credential. Gear that asks
// about somebody whom it has signed in proves nothing again, and an emergency account stands for itself: its password
// lies in an envelope. Somebody who is not known is asked as well, so that nobody learns who is.
func (p *Plan) NeedsFactor(l *Lane, f *facts.Facts) bool {
	if l.SecondFactor == "" {
		return false
	}
	if l.factorWhen == nil || f.Person != nil || f.Subject() == nil {
		return l.needsFactor(p.own(f))
	}
	whole := *f
	whole.Person = f.Subject() // of whom the condition asks, though nothing is proven yet
	return l.needsFactor(p.own(&whole))
}

func (l *Lane) needsFactor(f *facts.Facts) bool {
	p := f.Subject()
	return l.SecondFactor != "" && !f.Vouched() && (p == nil || p.Kind != facts.EmergencyAccount) &&
		(p == nil || l.factorWhen == nil || l.factorWhen.Fits(f))
}

// Spares reports whether the lane admits people who have no second factor: for a while, or with a pass of their own.
func (l *Lane) Spares(at time.Time) bool { return l.Factor.Pass != "" || l.graced(at) }

// graced tells that the time to enrol is not over.
func (l *Lane) graced(at time.Time) bool { return at.Before(l.Factor.Until) }

// DaysLeft is for how many days, begun ones too, people who have no second factor are admitted without; 0 for none.
func (l *Lane) DaysLeft(at time.Time) int {
	if !l.graced(at) {
		return 0
	}
	return int(math.Ceil(l.Factor.Until.Sub(at).Hours() / 24))
}

// factor is what the second factor comes to, OK where the lane asks for none.
func (l *Lane) factor(f *facts.Facts) reason.Code {
	switch {
	case !l.needsFactor(f):
		return reason.OK
	case f.Factor == nil && !l.TakesCode():
		return reason.FactorNoPhone
	case f.Factor == nil:
		return reason.FactorMissing
	case f.Factor.SupposedPhone && l.TakesApproval(), f.Factor.Supposed && l.TakesCode() &&
		l.Factor.Ask != config.AskAppend:
		return reason.OK
	case f.Factor.Supposed && !l.TakesCode():
		return reason.FactorNoPhone
	case f.Factor.SupposedPhone && !f.Factor.Supposed: // a phone that is of no use here
		return reason.FactorNotEnrolled
	case f.Factor.Outcome == reason.FactorNotEnrolled && l.Spares(f.At):
		return reason.OK
	}
	return f.Factor.Outcome
}

// instead is the pass of somebody who has no second factor, nil for that of the policy.
func (l *Lane) instead(f *facts.Facts) *Pass {
	if l.factorPass == nil || f.Factor == nil || f.Factor.Outcome != reason.FactorNotEnrolled || l.graced(f.At) ||
		!l.needsFactor(f) {
		return nil
	}
	return l.factorPass
}

// onPhone is what somebody said on the phone, where that was no approval.
var onPhone = map[reason.Code]string{reason.FactorRefused: "refused", reason.FactorAlarm: "this is not me",
	reason.FactorNumber: "another number"}

// fillFactor fills the station of the second factor.
func fillFactor(s *results.Station, f *facts.Facts, d *Decision) {
	if d.Lane == nil || !d.Lane.needsFactor(f) {
		s.Value, s.State = "not asked", results.NotAsked
		return
	}
	s.Value, s.Wanted, s.Found = "one-time code", "a code that fits and was not used before", "none came"
	switch d.Lane.SecondFactor {
	case config.Approval:
		s.Value, s.Wanted = "approval", "the person approves on a phone"
	case config.AnyFactor:
		s.Value, s.Wanted = "one-time code or approval", "a code that fits and was not used before, or an approval"
	}
	if f.Factor == nil {
		return
	}
	s.Micros = f.Factor.Micros
	if s.Found = f.Factor.Detail; s.Found == "" {
		s.Found = string(f.Factor.Outcome)
	}
	if said := onPhone[f.Factor.Outcome]; said != "" || f.Factor.By == facts.ByApproval {
		if said == "" {
			said = "approved"
		}
		s.Found = said + ", on " + f.Factor.Detail
	}
	if f.Factor.Outcome != reason.FactorNotEnrolled {
		return
	}
	switch days := d.Lane.DaysLeft(f.At); {
	case days > 0:
		s.Found = fmt.Sprintf("has none yet; admitted without until %s, in %d days",
			d.Lane.Factor.Until.UTC().Format("2006-01-02 15:04 UTC"), days)
	case d.Lane.Factor.Pass != "":
		s.Found = "has none; gets pass " + d.Lane.Factor.Pass
	}
}
