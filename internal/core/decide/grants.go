package decide

import (
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/pass"
)

// Grants are what a remote server may grant: attributes by name, and those of a pass of ours that override them.
type Grants struct {
	all   bool
	named map[string]bool
	// Over are the attributes that take the place of its own.
	Over []pass.Attribute
	// Request and Answer change what is sent to it, and what it answers.
	Request, Answer Rules
}

// protocol are the attributes that an answer cannot do without, or that only end a session earlier: they grant nothing.
var protocol = map[string]bool{"user-name": true, "reply-message": true, "class": true, "session-timeout": true,
	"idle-timeout": true, "termination-action": true,
	"acct-interim-interval": true, "eap-message": true, "state": true, "chargeable-user-identity": true}

// Protocol reports whether an attribute belongs to every answer.
func Protocol(name string) bool { return protocol[strings.ToLower(name)] }

// Allows reports whether an attribute of an Access-Accept is passed on.
func (g *Grants) Allows(name string) bool {
	return g.all || Protocol(name) || g.named[strings.ToLower(name)]
}

// GrantsOf returns what a remote server may grant, nil if there is none of that name.
func (p *Plan) GrantsOf(remote string) *Grants { return p.grants[strings.ToLower(remote)] }

func (p *Plan) compileGrants(c *config.Config, passes map[string]*Pass) []config.Problem {
	p.grants = make(map[string]*Grants, len(c.Remotes))
	var problems []config.Problem
	for i := range c.Remotes {
		r := c.Remotes[i]
		g := &Grants{all: slices.Contains(r.Grants, config.AllGrants), named: make(map[string]bool, len(r.Grants))}
		p.grants[strings.ToLower(r.Name)] = g
		p.ForwardsAccounting = p.ForwardsAccounting || r.Accounting
		fail := func(field, remedy string, p config.Problem) {
			problems = append(problems, p.On("remote", r.Name, r.ID, field, remedy))
		}
		for j, name := range r.Grants {
			if name != config.AllGrants && p.Dictionary.ByName(name) == nil {
				fail(fmt.Sprintf("grants[%d]", j), "Write its name as in the dictionary, or * for all.",
					config.NewProblem(config.NotFound, "there is no attribute %q", name))
			}
			g.named[strings.ToLower(name)] = true
		}
		for on, to := range map[string]*Rules{config.OnRequest: &g.Request, config.OnAnswer: &g.Answer} {
			made, wrong := compileRules(r, on, p.Dictionary)
			*to, problems = made, append(problems, wrong...)
		}
		over := passes[strings.ToLower(r.Pass)]
		switch {
		case r.Pass == "" || over == nil:
		case over.Reply.Dynamic():
			fail("pass", "Choose a pass without templates.",
				config.NewProblem(config.Conflict, "pass %q takes values of the person, who is not looked up here",
					r.Pass))
		default:
			g.Over, _ = over.Reply.For(nil)
		}
	}
	return problems
}

// AccountsTo names the remote servers that accounting of a lane is forwarded to, by their identifiers with spaces
// between; "" for none. Without a lane, facts tell which it is; a record about a whole device, which has neither, goes
// to all.
func (p *Plan) AccountsTo(lane string, f *facts.Facts) string {
	if !p.ForwardsAccounting {
		return ""
	}
	if lane == "" && f == nil {
		var all []string
		for _, r := range p.Config.Remotes {
			if r.Accounting {
				all = append(all, r.ID)
			}
		}
		return strings.Join(all, " ")
	}
	if lane == "" {
		found := p.Lane(f)
		if found == nil {
			return ""
		}
		lane = found.Name
	}
	from, at := config.Find(p.Config.Lanes, lane)
	if at < 0 {
		return ""
	}
	for _, name := range from.Forward {
		if r, at := config.Find(p.Config.Remotes, name); at >= 0 && r.Accounting {
			return r.ID
		}
	}
	return ""
}
