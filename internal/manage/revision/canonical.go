package revision

import (
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/rule"
)

// Canonical rewrites every condition that can be read in its canonical form, so that the same condition is the same
// text everywhere. One that cannot be read stays as typed, for its error to point into.
func Canonical(c *config.Config) {
	for i := range c.Lanes {
		lane := &c.Lanes[i]
		rewrite(&lane.When, rule.Request)
		for j := range lane.Policies {
			rewrite(&lane.Policies[j].When, rule.Person)
		}
	}
}

func rewrite(text *string, stage rule.Stage) {
	if cond, err := rule.Parse(*text, stage, nil); err == nil {
		*text = cond.String()
	}
}
