package revision

import (
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/rule"
)

// settle makes what was typed into a configuration what is kept: tidied, conditions in their canonical form, and with
// the objects of the draft that it was made from, and of what is running, where they mean the same.
func settle(c *config.Config, before *state) {
	c.NormaliseSince(before.draft.Config)
	CanonicalSince(c, before.draft.Config)
	c.Share(before.draft.Config)
	c.Share(before.running.Config)
}

// Canonical rewrites every condition that can be read in its canonical form, so that the same condition is the same
// text everywhere. One that cannot be read stays as typed, for its error to point into.
func Canonical(c *config.Config) { CanonicalSince(c, &config.Config{}) }

// CanonicalSince does so for what does not stand in a configuration before, where it was done.
func CanonicalSince(c, before *config.Config) {
	lanes, _ := config.Fresh(before.Lanes, c.Lanes)
	for _, lane := range lanes {
		rewrite(&lane.When, rule.Request)
		old, at := config.Find(before.Lanes, lane.ID)
		if at < 0 {
			old = &config.Lane{}
		}
		policies, _ := config.Fresh(old.Policies, lane.Policies)
		for _, p := range policies {
			rewrite(&p.When, rule.Person)
		}
	}
}

func rewrite(text *string, stage rule.Stage) {
	if cond, err := rule.Parse(*text, stage, nil); err == nil {
		*text = cond.String()
	}
}
