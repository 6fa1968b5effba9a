// Package decide compiles a configuration to a plan and decides attempts with it. The decision is a pure function of
// the facts, so the live answer, the explanation on screen, a trial and a rehearsal are one piece of code.
package decide

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/gaissmai/bart"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/kind"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/rule"
	"tollgate.example/key/internal/wire/dict"
)

// Plan is a compiled configuration. It is immutable and safe for concurrent use.
type Plan struct {
	Config *config.Config
	Lanes  []*Lane
	// Dictionary is the dictionary, with the attributes of vendors.
	Dictionary *dict.Dictionary
	lanes      *index
	// Forwards tells that some lane forwards.
	Forwards bool
	// ForwardsAccounting tells that some remote server gets accounting.
	ForwardsAccounting bool
	// CountsSessions tells that some pass limits sessions, or some condition asks how many are open.
	CountsSessions bool
	// AsksPresence tells that some condition asks where people are.
	AsksPresence bool
	kinds        *kind.Rules
	overrides    map[string][]*Override
	calendars    map[string]*calendar.Calendar
	commands     map[string]*Commands
	owners       owners
	grants       map[string]*Grants
	passes       map[string]*Pass
	clients      *bart.Table[*config.Client]
	realms       map[config.Form]*Realm
	byRealm      map[string]*Realm
}

// Lane is a compiled lane.
type Lane struct {
	*config.Lane
	Number int
	when   *rule.Condition
	// factorWhen limits who is asked for a second factor, nil for nobody left out; factorPass is what those get who
	// have none.
	factorWhen *rule.Condition
	factorPass *Pass
	Policies   []*Policy
	policies   *index
	// qualified are the groups that its policies name with their store.
	qualified []string
}

// Policy is a compiled policy.
type Policy struct {
	*config.Policy
	Number int
	when   *rule.Condition
	pass   *Pass
	rows   []*Pass
	// qualified are the groups that it names with their store.
	qualified []string
	// anchors are what it cannot do without.
	anchors []rule.Anchor
	// byGroup is the first row of each group of the table.
	byGroup map[string]int
}

// Override is a compiled override.
type Override struct {
	*config.Override
	pass *Pass
}

// Pass is a compiled pass.
type Pass struct {
	*config.Pass
	Reply *pass.Reply
	// Grant is what it gives to gear.
	Grant    *pass.Grant
	commands *Commands
	// vlan is the VLAN if it is a template, nil otherwise.
	vlan *rule.Template
}

// Taken counts the sessions with the pass that the person has open on other devices.
func (p *Pass) Taken(f *facts.Facts) int {
	if f.Open == nil {
		return 0
	}
	return f.Open.With[strings.ToLower(p.Name)]
}

// VLANFor is the VLAN that the pass gives in one attempt.
func (p *Pass) VLANFor(f *facts.Facts) string {
	if p.vlan == nil {
		return p.VLAN
	}
	text, _ := p.vlan.Fill(f)
	return text
}

// Realm is a compiled realm.
type Realm struct {
	*config.Realm
}

// compilePasses compiles the passes, by name in lower case, with what each takes from those it extends.
func (p *Plan) compilePasses(c *config.Config) (map[string]*Pass, []config.Problem) {
	passes := make(map[string]*Pass, len(c.Passes))
	var problems []config.Problem
	for i := range c.Passes {
		whole, err := c.Resolve(c.Passes[i])
		if err != nil {
			whole = *c.Passes[i] // the check has told
		}
		reply, wrong := pass.Compile(&whole, p.Dictionary, c.Vendors)
		problems = append(problems, wrong...)
		problems = append(problems, unread(c, &whole, reply)...)
		grant, wrong := pass.CompileGrant(&whole)
		problems = append(problems, wrong...)
		made := &Pass{
			Pass:     &whole,
			Reply:    reply,
			Grant:    grant,
			commands: p.commands[strings.ToLower(whole.Commands)],
		}
		if t, err := rule.ParseTemplate(whole.VLAN); err == nil && len(t.Fields()) > 0 {
			made.vlan = t
		}
		passes[strings.ToLower(whole.Name)] = made
	}
	p.passes = passes
	return passes, problems
}

// unread warns of templates over attributes of people that no directory reads.
func unread(c *config.Config, p *config.Pass, reply *pass.Reply) []config.Problem {
	var out []config.Problem
	for _, t := range reply.Templates() {
		for _, field := range t.Fields() {
			name, ok := strings.CutPrefix(field, "person.")
			if !ok || strings.EqualFold(name, "mail") || slices.ContainsFunc(c.Directories,
				func(d *config.Directory) bool {
					return slices.ContainsFunc(
						d.Attributes,
						func(a string) bool { return strings.EqualFold(a, name) },
					)
				}) {
				continue
			}
			problem := config.NewProblem(config.AttributeUnread, "%s asks for %s, which no directory reads, so "+
				"everybody with this pass is refused", t, field)
			remedy := "Add " + name + " to the attributes that a directory reads, or set a default: {{" + field +
				` or "none"}}.`
			out = append(out, problem.On("pass", p.Name, p.ID, "attributes", remedy).AsWarning())
		}
	}
	return out
}

// Calendar returns a compiled calendar by name, nil if there is none.
func (p *Plan) Calendar(name string) *calendar.Calendar { return p.calendars[strings.ToLower(name)] }

// Pass returns a pass by name, nil if there is none.
func (p *Plan) Pass(name string) *Pass { return p.passes[strings.ToLower(name)] }

// Client returns the client that an address belongs to, by the longest prefix; nil if there is none.
func (p *Plan) Client(addr netip.Addr) *config.Client {
	client, _ := p.clients.Lookup(addr.Unmap().WithZone(""))
	return client
}

// Realm returns a realm by name, nil if there is none.
func (p *Plan) Realm(name string) *Realm { return p.byRealm[strings.ToLower(name)] }

// Allows reports whether the lane allows a method; eap, while none is agreed, if it allows any that runs in EAP.
func (l *Lane) Allows(method string) bool {
	switch method {
	case config.PEAP, config.TTLS, config.TEAP:
		return slices.ContainsFunc(l.Methods, func(name string) bool { return strings.HasPrefix(name, method+"-") })
	case "eap":
		return slices.ContainsFunc(l.Methods, func(name string) bool {
			m := config.FindMethod(name)
			return m != nil && m.EAP
		})
	}
	return slices.Contains(l.Methods, method)
}
