package gate

import (
	"context"
	"fmt"
	"time"

	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// NeedsFactor reports whether a second factor has to be shown now: the lane asks this person for one, none was shown
// lately from here, and the person has one or the lane does not do without.
func (v *Visit) NeedsFactor() bool {
	return v.asked() && !v.codeGivenLately() && !v.spared()
}

// asked reports whether the lane asks for a code here.
func (v *Visit) asked() bool {
	lane := v.before.Lane
	if lane == nil {
		return false
	}
	if lane.Factor.When != "" {
		v.locate()
	}
	return v.snapshot.Plan.NeedsFactor(lane, &v.Facts)
}

// spared notes somebody who has no second factor, and reports whether the lane does without it. Whoever has codes is
// not spared by a method that carries none: otherwise whoever knows the password would choose such a method.
func (v *Visit) spared() bool {
	p, lane := v.Facts.Subject(), v.before.Lane
	if p == nil || !lane.Spares(v.Facts.At) {
		return false
	}
	if codes, phones := v.gate.Factors.Ways(p.Store, p.Name, v.Facts.At); codes && lane.TakesCode() ||
		phones && lane.TakesApproval() {
		return false
	}
	v.Facts.Factor = &facts.Factor{Outcome: reason.FactorNotEnrolled}
	return true
}

// place is where the person is: the address that the device tells, or the address of the device itself; "" where
// neither is known.
func (v *Visit) place() string {
	if v.Facts.From.IsValid() {
		return v.Facts.From.String()
	}
	return v.Facts.MAC
}

// codeGivenLately takes a code that was given lately on the same client, from the same place, where the lane lets it.
func (v *Visit) codeGivenLately() bool {
	p, lane, place := v.Facts.Subject(), v.before.Lane, v.place()
	if p == nil || place == "" {
		return false
	}
	at, ok := v.gate.Factors.GivenLately(p.Store, p.Name, v.Facts.Client, place,
		time.Duration(lane.FactorRestMinutes)*time.Minute, v.Facts.At)
	if ok {
		v.Facts.Factor = &facts.Factor{Outcome: reason.OK, By: facts.ByRest, Detail: fmt.Sprintf(
			"given %s ago on %s, from %s", v.Facts.At.Sub(at).Round(time.Second), v.Facts.Client, place)}
	}
	return ok
}

// CheckTyped checks what was typed where the password and the code come as one: the code right behind the password.
func (v *Visit) CheckTyped(ctx context.Context, typed string) reason.Code {
	if !v.asked() || !v.before.Lane.TakesCode() {
		return v.CheckPassword(ctx, typed)
	}
	p := v.Facts.Subject()
	if p == nil {
		return v.judged(reason.ProofUnfinished, "")
	}
	password, code := v.gate.Factors.Split(p.Store, p.Name, typed, v.Facts.At)
	why := v.CheckPassword(ctx, password)
	switch {
	case why == reason.PasswordWrong && code != "" && v.Facts.CredentialDetail == "":
		v.Facts.CredentialDetail = fmt.Sprintf("%s; the last %d characters were taken for the one-time code", why,
			len(code))
	case why == reason.OK && code == "" && (v.codeGivenLately() || v.spared() || v.hasPhone()): // that is asked later
	case why == reason.OK:
		v.CheckCode(ctx, code)
	}
	return why
}

// CheckCode checks a one-time code of the person, whose password is right.
func (v *Visit) CheckCode(ctx context.Context, code string) reason.Code {
	begun, p := time.Now(), v.Facts.Subject()
	if p == nil {
		return v.judged(reason.ProofUnfinished, "")
	}
	out := &facts.Factor{}
	out.Outcome, out.By, out.Detail = v.gate.Factors.Check(ctx, p.Store, p.Name, code, v.Facts.Client, begun)
	if place := v.place(); out.Outcome == reason.OK && place != "" && v.Facts.Tried == "" {
		v.gate.Factors.Given(p.Store, p.Name, v.Facts.Client, place, begun)
	}
	out.Micros = time.Since(begun).Microseconds()
	v.Facts.Factor = out
	return out.Outcome
}

// reminder is what somebody reads who is admitted and has no second factor yet.
func (v *Visit) reminder(d *decide.Decision) string {
	x := v.Facts.Factor
	if x == nil || x.Outcome != reason.FactorNotEnrolled || d.Lane == nil || v.Facts.Gear != nil {
		return ""
	}
	if days := d.Lane.DaysLeft(v.Facts.At); days > 0 {
		return fmt.Sprintf("Set up your second factor until %s (%d days left).",
			d.Lane.Factor.Until.Format("2006-01-02"), days)
	}
	return "You have no second factor, and reach only what is needed to set it up."
}
