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

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
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
	Forwards  bool
	overrides map[string][]*Override
	calendars map[string]*calendar.Calendar
	commands  map[string]*Commands
	owners    owners
	grants    map[string]*Grants
	clients   bart.Table[int]
	realms    map[config.Form]*Realm
	byRealm   map[string]*Realm
}

// Lane is a compiled lane.
type Lane struct {
	*config.Lane
	Number   int
	when     *rule.Condition
	Policies []*Policy
	policies *index
}

// Policy is a compiled policy.
type Policy struct {
	*config.Policy
	Number int
	when   *rule.Condition
	pass   *Pass
	rows   []*Pass
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

// Compile checks a configuration and compiles it. The plan is nil if any problem is more than a warning.
func Compile(c *config.Config) (*Plan, []config.Problem) { return new(Compiler).Compile(c) }

func compileAll(c *config.Config) (*Plan, []config.Problem) {
	problems := c.Check()
	p := &Plan{Config: c, realms: map[config.Form]*Realm{}, byRealm: map[string]*Realm{}}
	for i := range c.Clients {
		for _, text := range c.Clients[i].Addresses {
			if prefix, err := config.ParsePrefix(text); err == nil {
				p.clients.Insert(prefix, i)
			}
		}
	}
	dictionary, wrong := pass.Dictionary(c.Vendors)
	p.Dictionary, problems = dictionary, append(problems, wrong...)
	p.calendars = map[string]*calendar.Calendar{}
	for i := range c.Calendars {
		if made, _ := c.Calendars[i].Compile(); made != nil {
			p.calendars[strings.ToLower(c.Calendars[i].Name)] = made
		}
	}
	p.commands = compileCommands(c)
	passes, wrong := p.compilePasses(c)
	problems = append(problems, wrong...)
	problems = append(problems, p.compileGrants(c, passes)...)
	for i := range c.Realms {
		realm := &Realm{c.Realms[i]}
		p.byRealm[strings.ToLower(realm.Name)] = realm
		for _, form := range realm.Forms {
			p.realms[form] = realm
		}
	}
	tags := clientTags(c)
	for i := range c.Lanes {
		lane, wrong := p.compileLane(c.Lanes[i], i+1, passes, tags)
		problems = append(problems, wrong...)
		p.Lanes = append(p.Lanes, lane)
		p.Forwards = p.Forwards || len(lane.Forward) > 0
	}
	p.compileOwners()
	p.lanes = newIndex(len(p.Lanes), func(i int) []rule.Anchor { return anchorsOf(p.Lanes[i].when) })
	p.overrides = map[string][]*Override{}
	for i := range c.Overrides {
		o := c.Overrides[i]
		key := rule.FoldString(o.Person)
		p.overrides[key] = append(p.overrides[key], &Override{o, passes[strings.ToLower(o.Pass)]})
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

func (p *Plan) compileLane(c *config.Lane, number int, passes map[string]*Pass, tags map[string]bool) (*Lane,
	[]config.Problem) {
	lane := &Lane{Lane: c, Number: number}
	var problems []config.Problem
	compile := func(text, field string, stage rule.Stage) *rule.Condition {
		cond, err := rule.Parse(text, stage, p.Calendar)
		if err != nil {
			problem, remedy := config.NewProblem(config.Malformed, "%s", err), ""
			var at *rule.Error
			if errors.As(err, &at) {
				problem, remedy = config.NewProblem(config.Malformed, "column %d: %s", at.Column, at.Message), at.Remedy
				problem.Column = at.Column
			}
			problems = append(problems, problem.On("lane", c.Name, c.ID, field, remedy))
			return nil
		}
		for name := range cond.Uses() {
			if tag, ok := strings.CutPrefix(name, "client."); ok && !config.ReservedTag(tag) && !tags[tag] {
				problem := config.NewProblem(config.TagUnused, "no client carries the tag %q, so %s is always empty",
					tag, name)
				problems = append(problems, problem.On("lane", c.Name, c.ID, field,
					"Set the tag on the clients, or correct its name.").AsWarning())
			}
		}
		return cond
	}
	lane.when = compile(c.When, "when", rule.Request)
	for i := range c.Policies {
		policy := &Policy{Policy: c.Policies[i], Number: i + 1}
		policy.when = compile(policy.When, fmt.Sprintf("policies[%d].when", i), rule.Person)
		policy.pass = passes[strings.ToLower(policy.Pass)]
		policy.byGroup = make(map[string]int, len(policy.Groups))
		for r, row := range policy.Groups {
			policy.rows = append(policy.rows, passes[strings.ToLower(row.Pass)])
			if key := rule.FoldString(row.Group); policy.byGroup[key] == 0 {
				policy.byGroup[key] = r + 1
			}
		}
		lane.Policies = append(lane.Policies, policy)
	}
	lane.policies = newIndex(len(lane.Policies), func(i int) []rule.Anchor { return lane.Policies[i].anchors() })
	return lane, problems
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
		made := &Pass{Pass: &whole, Reply: reply, Grant: grant, commands: p.commands[strings.ToLower(whole.Commands)]}
		if t, err := rule.ParseTemplate(whole.VLAN); err == nil && len(t.Fields()) > 0 {
			made.vlan = t
		}
		passes[strings.ToLower(whole.Name)] = made
	}
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
					return slices.ContainsFunc(d.Attributes, func(a string) bool { return strings.EqualFold(a, name) })
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

// Client returns the client that an address belongs to, by the longest prefix, and its place in the configuration.
func (p *Plan) Client(addr netip.Addr) (*config.Client, int) {
	i, ok := p.clients.Lookup(addr.Unmap().WithZone(""))
	if !ok {
		return nil, -1
	}
	return p.Config.Clients[i], i
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
