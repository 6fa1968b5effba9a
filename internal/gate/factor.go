package gate

import (
	"context"
	"fmt"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// NeedsCode reports whether a one-time code has to be given now: the lane asks for one, and none was given lately from
// here.
func (v *Visit) NeedsCode() bool {
	if v.before.Lane == nil || !v.before.Lane.NeedsCode(&v.Facts) {
		return false
	}
	return !v.codeGivenLately()
}

// codeGivenLately takes a code that was given lately on the same client, from the same place, where the lane lets it.
func (v *Visit) codeGivenLately() bool {
	p, lane := v.Facts.Subject(), v.before.Lane
	if p == nil || !v.Facts.From.IsValid() {
		return false
	}
	at, ok := v.gate.Factors.GivenLately(p.Store, p.Name, v.Facts.Client, v.Facts.From.String(),
		time.Duration(lane.FactorRestMinutes)*time.Minute, v.Facts.At)
	if ok {
		v.Facts.Factor = &facts.Factor{Outcome: reason.OK, Detail: fmt.Sprintf("given %s ago on %s, from %s",
			v.Facts.At.Sub(at).Round(time.Second), v.Facts.Client, v.Facts.From)}
	}
	return ok
}

// CheckTyped checks what was typed where the password and the code come as one: the code right behind the password.
func (v *Visit) CheckTyped(ctx context.Context, typed string) reason.Code {
	if lane := v.before.Lane; lane == nil || !lane.NeedsCode(&v.Facts) {
		return v.CheckPassword(ctx, typed)
	}
	p := v.Facts.Subject()
	if p == nil {
		return v.judged(reason.ProofUnfinished, "")
	}
	password, code := v.gate.Factors.Split(p.Store, p.Name, typed)
	why := v.CheckPassword(ctx, password)
	switch {
	case why == reason.PasswordWrong && code != "" && v.Facts.CredentialDetail == "":
		v.Facts.CredentialDetail = fmt.Sprintf("%s; the last %d characters were taken for the one-time code", why,
			len(code))
	case why == reason.OK && code == "" && v.codeGivenLately():
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
	out.Outcome, out.Detail = v.gate.Factors.Check(ctx, p.Store, p.Name, code, v.Facts.Client, begun)
	if out.Outcome == reason.OK && v.Facts.From.IsValid() && v.Facts.Tried == "" {
		v.gate.Factors.Given(p.Store, p.Name, v.Facts.Client, v.Facts.From.String(), begun)
	}
	out.Micros = time.Since(begun).Microseconds()
	v.Facts.Factor = out
	return out.Outcome
}
