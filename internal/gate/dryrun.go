package gate

import (
	"context"
	"fmt"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
)

// DryRun decides under a plan, which need not be in effect, what an attempt of these facts with the right proof by a
// method would come to. People are looked up where they are kept now; nothing is recorded. The error says why it could
// not be found out.
func (g *Gate) DryRun(ctx context.Context, plan *decide.Plan, f facts.Facts, method string,
	now time.Time) (decide.Decision, *facts.Facts, error) {
	s := g.Current().Under(plan)
	v, why := g.Arrive(s, f, now)
	if why == reason.OK && len(v.before.Lane.Forward) == 0 {
		if v.before.Realm != nil {
			for _, step := range v.before.Realm.Lookup {
				if step.Store != config.LocalStore && s.Directory(step.Store) == nil {
					return decide.Decision{}, nil,
						fmt.Errorf("directory %s is not in effect yet, so nobody can be looked up there", step.Store)
				}
			}
		}
		why = v.Find(ctx)
		person := v.Facts.Claimed
		if code, detail := g.usable(plan, person, method); why == reason.OK && code == reason.OK {
			proof.Suppose(&v.Facts, person)
		} else {
			v.judged(code, detail)
		}
		if p := person; p != nil && v.asked() {
			v.Facts.Factor = &facts.Factor{Outcome: reason.FactorNotEnrolled}
			lane := v.before.Lane
			if codes, phones := g.Factors.Ways(p.Store, p.Name, v.Facts.At); codes && lane.TakesCode() ||
				phones && lane.TakesApproval() {
				v.Facts.Factor.Outcome = reason.OK
			}
		}
	}
	return plan.Decide(&v.Facts), &v.Facts, nil
}

// usable tells whether a right proof could be checked at all where the person is kept.
func (g *Gate) usable(plan *decide.Plan, person *facts.Person, method string) (reason.Code, string) {
	m := config.FindMethod(method)
	if person == nil || m == nil || person.Store == config.DeviceStore || m.Needs != config.NeedsNTHash &&
		m.Needs != config.NeedsClear {
		return reason.OK, ""
	}
	if person.Store == config.LocalStore {
		return g.Accounts.Usable(person.Name, m.Needs)
	}
	if d, at := config.Find(plan.Config.Directories, person.Store); at >= 0 && m.Needs == config.NeedsNTHash &&
		d.Member() {
		return reason.OK, ""
	}
	return reason.MethodUnusable, noHashes
}
