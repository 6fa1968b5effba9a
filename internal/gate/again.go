package gate

import (
	"context"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/proof"
)

// Again decides an attempt that was admitted once more, as of now: the person or the device is looked up where they are
// kept, whatever was found of them a moment ago, and what was proven stays proven. Nothing is recorded. known is false
// if it cannot be told, such as while a directory does not answer, or where a remote server decides.
func (g *Gate) Again(ctx context.Context, f facts.Facts, now time.Time) (d decide.Decision, known bool) {
	s := g.Current()
	was := f.Person
	if was == nil || f.Forwarded != nil {
		return d, false
	}
	if f.Inner != "" {
		f.Sent = f.Inner
	}
	f.Forget(now)
	f.Open = nil // it has its place
	v, why := g.Arrive(s, f, now)
	v.anew = true
	if why != reason.OK || len(v.before.Lane.Forward) > 0 {
		return s.Plan.Decide(&v.Facts), why != reason.OK
	}
	if f.Method == facts.MACBypass && v.Facts.Device == nil {
		return decide.Decision{Verdict: results.Refused, Reason: reason.DeviceUnknown, Lane: v.before.Lane}, true
	}
	why = v.Find(ctx)
	switch why {
	case reason.DirectoryUnreachable, reason.DirectoryBind, reason.DirectoryFailed, reason.Busy,
		reason.PersonUnreadable:
		return d, false
	case reason.OK:
		person := v.Facts.Claimed
		if person.Store != was.Store || person.ID != was.ID && person.Store != config.LocalStore {
			return decide.Decision{Verdict: results.Refused, Reason: reason.PersonUnknown, Lane: v.before.Lane}, true
		}
		proof.Suppose(&v.Facts, person)
	default:
		v.judged(why, "")
	}
	d = s.Plan.Decide(&v.Facts)
	if d.Reason == reason.PoolExhausted { // it has its address
		return d, false
	}
	return d, true
}
