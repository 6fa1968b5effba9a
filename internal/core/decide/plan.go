// Package decide compiles a configuration to a plan and decides attempts with it. The decision is a pure function of
// the facts, so the live answer, the explanation on screen, a trial and a rehearsal are one piece of code.
package decide

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/gaissmai/bart"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/rule"
)

// Plan is a compiled configuration. It is immutable and safe for concurrent use.
type Plan struct {
	Config  *config.Config
	Lanes   []*Lane
	clients bart.Table[int]
	realms  map[config.Form]*Realm
	byRealm map[string]*Realm
}

// Lane is a compiled lane.
type Lane struct {
	*config.Lane
	Number   int
	when     *rule.Condition
	Policies []*Policy
}

// Policy is a compiled policy.
type Policy struct {
	*config.Policy
	Number int
	when   *rule.Condition
	pass   *Pass
	rows   []*Pass
}

// Pass is a compiled pass.
type Pass struct {
	*config.Pass
	Reply *pass.Reply
}

// Realm is a compiled realm.
type Realm struct {
	*config.Realm
}

// Compile checks a configuration and compiles it. The plan is nil if any problem is more than a warning.
func Compile(c *config.Config) (*Plan, []config.Problem) {
	problems := c.Check()
	p := &Plan{Config: c, realms: map[config.Form]*Realm{}, byRealm: map[string]*Realm{}}
	for i := range c.Clients {
		for _, text := range c.Clients[i].Addresses {
			if prefix, err := config.ParsePrefix(text); err == nil {
				p.clients.Insert(prefix, i)
			}
		}
	}
	passes := map[string]*Pass{}
	for i := range c.Passes {
		reply, wrong := pass.Compile(&c.Passes[i])
		problems = append(problems, wrong...)
		passes[strings.ToLower(c.Passes[i].Name)] = &Pass{&c.Passes[i], reply}
	}
	for i := range c.Realms {
		realm := &Realm{&c.Realms[i]}
		p.byRealm[strings.ToLower(realm.Name)] = realm
		for _, form := range realm.Forms {
			p.realms[form] = realm
		}
	}
	tags := clientTags(c)
	for i := range c.Lanes {
		lane, wrong := compileLane(&c.Lanes[i], i+1, passes, tags)
		problems = append(problems, wrong...)
		p.Lanes = append(p.Lanes, lane)
	}
	if len(c.Clients) > 0 {
		problems = append(problems, unreachable(p)...)
	}
	config.Sort(problems)
	if len(problems) > 0 && !problems[0].Warning {
		return nil, problems
	}
	return p, problems
}

// clientTags lists the tag names that any client carries.
func clientTags(c *config.Config) map[string]bool {
	out := map[string]bool{}
	for i := range c.Clients {
		for key := range c.Clients[i].Tags {
			out[key] = true
		}
	}
	return out
}

func compileLane(c *config.Lane, number int, passes map[string]*Pass, tags map[string]bool) (*Lane, []config.Problem) {
	lane := &Lane{Lane: c, Number: number}
	var problems []config.Problem
	compile := func(text, field string, stage rule.Stage) *rule.Condition {
		cond, err := rule.Parse(text, stage)
		if err != nil {
			problem := config.Problem{Kind: "lane", Object: c.Name, ID: c.ID, Field: field, Message: err.Error()}
			var at *rule.Error
			if errors.As(err, &at) {
				problem.Column, problem.Message, problem.Remedy = at.Column, fmt.Sprintf("column %d: %s", at.Column, at.Message), at.Remedy
			}
			problems = append(problems, problem)
			return nil
		}
		for name := range cond.Uses() {
			if tag, ok := strings.CutPrefix(name, "client."); ok && !config.ReservedTag(tag) && !tags[tag] {
				problems = append(problems, config.Problem{Kind: "lane", Object: c.Name, ID: c.ID, Field: field, Warning: true,
					Message: fmt.Sprintf("no client carries the tag %q, so %s is always empty", tag, name), Remedy: "Give the tag to the clients that are meant, or correct its name."})
			}
		}
		return cond
	}
	lane.when = compile(c.When, "when", rule.Request)
	for i := range c.Policies {
		policy := &Policy{Policy: &c.Policies[i], Number: i + 1}
		policy.when = compile(policy.When, fmt.Sprintf("policies[%d].when", i), rule.Person)
		policy.pass = passes[strings.ToLower(policy.Pass)]
		for _, row := range policy.Groups {
			policy.rows = append(policy.rows, passes[strings.ToLower(row.Pass)])
		}
		lane.Policies = append(lane.Policies, policy)
	}
	return lane, problems
}

// unreachable warns of lanes and policies behind one that always fits.
func unreachable(p *Plan) []config.Problem {
	var out []config.Problem
	var always *Lane
	for _, lane := range p.Lanes {
		if always != nil {
			out = append(out, config.Problem{Kind: "lane", Object: lane.Name, ID: lane.ID, Field: "when", Warning: true,
				Message: fmt.Sprintf("can never be reached: lane %d, %s, takes everything before it", always.Number, always.Name), Remedy: "Move it above."})
		} else if lane.when != nil && lane.when.String() == "always" {
			always = lane
		}
		var first *Policy
		for _, policy := range lane.Policies {
			if !policy.Enabled {
				continue
			}
			if first != nil {
				out = append(out, config.Problem{Kind: "lane", Object: lane.Name, ID: lane.ID, Field: fmt.Sprintf("policies[%d].when", policy.Number-1), Warning: true,
					Message: fmt.Sprintf("policy %q can never be reached: policy %d, %s, takes everybody before it", policy.Name, first.Number, first.Name), Remedy: "Move it above, or remove it."})
			} else if policy.when != nil && policy.when.String() == "always" && len(policy.Groups) == 0 {
				first = policy
			}
		}
	}
	return out
}

// Client returns the client that an address belongs to, by the longest prefix, and its place in the configuration.
func (p *Plan) Client(addr netip.Addr) (*config.Client, int) {
	i, ok := p.clients.Lookup(addr.Unmap().WithZone(""))
	if !ok {
		return nil, -1
	}
	return &p.Config.Clients[i], i
}

// Realm returns a realm by name, nil if there is none.
func (p *Plan) Realm(name string) *Realm { return p.byRealm[strings.ToLower(name)] }

// Allows reports whether the lane allows a method; eap, while none is agreed, if it allows any that runs in EAP.
func (l *Lane) Allows(method string) bool {
	if method == "eap" {
		return slices.ContainsFunc(l.Methods, func(name string) bool {
			m := config.FindMethod(name)
			return m != nil && m.EAP
		})
	}
	return slices.Contains(l.Methods, method)
}
