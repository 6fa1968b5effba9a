package gate

import (
	"context"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

// anyLane is a lane that takes every realm.
var anyLane = &decide.Lane{Lane: &config.Lane{}}

// Known is a name as people are known by it where several systems name them: without what the realm of bare names has
// around it, and with the name of any other realm behind an @.
func (g *Gate) Known(sent string) string {
	plan := g.Current().Plan
	realm, name, code := plan.Name(anyLane, sent)
	if code != reason.OK {
		return sent
	}
	if bare, _, code := plan.Name(anyLane, name); code == reason.OK && bare == realm {
		return name
	}
	return name + "@" + realm.Name
}

// Seek looks up somebody by the name that Known gives. Nothing is recorded, and nothing proven.
func (g *Gate) Seek(ctx context.Context, known string) (*facts.Person, reason.Code) {
	s := g.Current()
	realm, name, code := s.Plan.Name(anyLane, known)
	if at := strings.LastIndexByte(known, '@'); at >= 0 {
		if r := s.Plan.Realm(known[at+1:]); r != nil {
			realm, name, code = r, known[:at], reason.OK
		}
	}
	if code != reason.OK {
		return nil, code
	}
	v := &Visit{gate: g, snapshot: s, Facts: facts.Facts{At: time.Now(), Sent: known}, begun: time.Now()}
	v.before.Realm, v.before.Name = realm, name
	for i := range realm.Lookup {
		step := &realm.Lookup[i]
		d := s.Directory(step.Store)
		if d != nil { // whoever asks wants to know how it is now
			d.Forget(name)
		}
		if d != nil || step.Store == config.LocalStore {
			person, outcome, _ := v.ask(ctx, step.Store)
			if outcome == reason.OK {
				return person, reason.OK
			}
			if outcome != reason.PersonUnknown && step.Unreachable != config.Next {
				return nil, outcome
			}
		}
	}
	return nil, reason.PersonUnknown
}
