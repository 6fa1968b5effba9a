package decide

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"github.com/gaissmai/bart"

	"tollgate.example/key/internal/core/calendar"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/kind"
	"tollgate.example/key/internal/core/pass"
	"tollgate.example/key/internal/core/rule"
)

// Compiler compiles one configuration after another, and checks and compiles again only what the next one does not
// share with the last. It is safe for concurrent use; the zero value is ready.
type Compiler struct {
	mu      sync.Mutex
	clients config.ClientIndex
	table   *bart.Table[*config.Client]
	// shaky tells that an address of the table belongs to several clients, so that none can be taken out.
	shaky bool
	tags  []string
	last  *work
	// kinds are the rules of kindsOf.
	kinds   *kind.Rules
	kindsOf []*config.DeviceKind
}

// work is what a compilation leaves for the next one. It is immutable.
type work struct {
	config *config.Config
	shared *shared
	lanes  map[*config.Lane]*laneWork
}

// shared is what the lanes of a configuration are compiled with.
type shared struct {
	*Plan
	passes   map[string]*Pass
	problems []config.Problem
}

// laneWork is a compiled lane with the problems found in it.
type laneWork struct {
	lane     *Lane
	problems []config.Problem
	// faulty are the policies that have problems, or whose condition cannot be read.
	faulty map[*config.Policy]bool
}

// Compile checks a configuration and compiles it. The plan is nil if any problem is more than a warning.
func Compile(c *config.Config) (*Plan, []config.Problem) { return new(Compiler).Compile(c) }

// Compile checks a configuration and compiles it. The plan is nil if any problem is more than a warning. The
// configuration must not be changed afterwards.
func (k *Compiler) Compile(c *config.Config) (*Plan, []config.Problem) {
	k.mu.Lock()
	defer k.mu.Unlock()
	problems := k.compileClients(c)
	problems = append(problems, c.CheckRest()...)
	next := &work{config: c, lanes: make(map[*config.Lane]*laneWork, len(c.Lanes))}
	tags := k.clients.Tags()
	var before *work // what may be taken over of lanes
	if k.last != nil && slices.Equal(tags, k.tags) && slices.Equal(k.last.config.Calendars, c.Calendars) &&
		slices.Equal(k.last.config.Directories, c.Directories) {
		before = k.last
	}
	if k.last != nil && sameBasis(k.last.config, c) {
		next.shared = k.last.shared
	} else {
		next.shared = compileShared(c)
	}
	k.tags, k.last = tags, next
	problems = append(problems, next.shared.problems...)
	p := *next.shared.Plan
	if k.kinds == nil || !slices.Equal(k.kindsOf, c.DeviceKinds) {
		k.kinds, k.kindsOf = kind.Compile(c.DeviceKinds), c.DeviceKinds
	}
	p.Config, p.clients, p.kinds = c, k.table, k.kinds
	problems = append(problems, p.compileLanes(c, next, before, tags)...)
	p.lanes = newIndex(len(p.Lanes), func(i int) []rule.Anchor { return anchorsOf(p.Lanes[i].when) })
	p.overrides = make(map[string][]*Override, len(c.Overrides))
	for _, o := range c.Overrides {
		key := rule.FoldString(o.Person)
		p.overrides[key] = append(p.overrides[key], &Override{o, next.shared.passes[strings.ToLower(o.Pass)]})
	}
	config.Sort(problems)
	if len(problems) > 0 && !problems[0].Warning {
		return nil, problems
	}
	return &p, problems
}

// worthPatching is how many changed clients are put into a copy of the table; for more it is made anew.
const worthPatching = 1000

// compileClients checks the clients and brings the table of their addresses up to date.
func (k *Compiler) compileClients(c *config.Config) []config.Problem {
	problems := k.clients.Check(c)
	fresh, gone := k.clients.Changed()
	if k.table == nil || k.shaky || len(fresh)+len(gone) > worthPatching {
		k.table = &bart.Table[*config.Client]{}
		prefixes(c.Clients, k.table.Insert)
	} else {
		prefixes(gone, func(p netip.Prefix, _ *config.Client) { k.table = k.table.DeletePersist(p) })
		prefixes(fresh, func(p netip.Prefix, client *config.Client) { k.table = k.table.InsertPersist(p, client) })
	}
	k.shaky = k.clients.Taken()
	return problems
}

// prefixes calls a function for each prefix of clients.
func prefixes(clients []*config.Client, do func(netip.Prefix, *config.Client)) {
	for _, client := range clients {
		for _, text := range client.Addresses {
			if prefix, err := config.ParsePrefix(text); err == nil {
				do(prefix, client)
			}
		}
	}
}

// sameBasis reports whether everything that lanes are compiled with is the same in two configurations.
func sameBasis(a, b *config.Config) bool {
	return slices.Equal(a.Directories, b.Directories) && slices.Equal(a.Realms, b.Realms) &&
		slices.Equal(a.Passes, b.Passes) && slices.Equal(a.Certificates, b.Certificates) &&
		slices.Equal(a.Trusts, b.Trusts) && slices.Equal(a.Authorities, b.Authorities) &&
		slices.Equal(a.Calendars, b.Calendars) && slices.Equal(a.Pools, b.Pools) &&
		slices.Equal(a.Remotes, b.Remotes) && slices.Equal(a.Vendors, b.Vendors) &&
		slices.Equal(a.CommandLists, b.CommandLists)
}

// compileShared compiles what does not depend on clients, lanes, overrides and expectations.
func compileShared(c *config.Config) *shared {
	p := &Plan{Config: c, realms: map[config.Form]*Realm{}, byRealm: map[string]*Realm{}}
	dictionary, problems := pass.Dictionary(c.Vendors)
	p.Dictionary = dictionary
	p.calendars = map[string]*calendar.Calendar{}
	for _, one := range c.Calendars {
		if made, _ := one.Compile(); made != nil {
			p.calendars[strings.ToLower(one.Name)] = made
		}
	}
	p.commands = compileCommands(c)
	passes, wrong := p.compilePasses(c)
	problems = append(problems, wrong...)
	problems = append(problems, p.compileGrants(c, passes)...)
	for _, one := range passes {
		p.CountsSessions = p.CountsSessions || one.MaxSessions > 0
	}
	for _, one := range c.Realms {
		realm := &Realm{one}
		p.byRealm[strings.ToLower(realm.Name)] = realm
		for _, form := range realm.Forms {
			p.realms[form] = realm
		}
	}
	p.compilePicked()
	p.Config = nil // of the one that is compiled; an old one is not kept for this
	return &shared{p, passes, problems}
}

// compileLanes compiles the lanes, and takes over those that stand in the configuration before, which may be nil.
func (p *Plan) compileLanes(c *config.Config, next, before *work, tags []string) []config.Problem {
	p.Lanes = make([]*Lane, 0, len(c.Lanes))
	p.owners.qualified = map[string]bool{}
	var problems []config.Problem
	for i, lane := range c.Lanes {
		made := before.lane(lane, i+1, next.shared)
		if made == nil {
			made = p.compileLane(lane, i+1, next.shared.passes, tags, before.policies(lane.ID))
			made.problems = append(c.CheckLanes([]*config.Lane{lane})[0], made.problems...)
		}
		next.lanes[lane] = made
		problems = append(problems, made.problems...)
		p.Lanes = append(p.Lanes, made.lane)
		p.Forwards = p.Forwards || len(lane.Forward) > 0
		p.AsksPresence = p.AsksPresence || strings.Contains(strings.ToLower(lane.Factor.When), "presence.")
		p.CountsSessions = p.CountsSessions || strings.Contains(strings.ToLower(lane.Factor.When), "sessions.")
		for _, policy := range lane.Policies {
			p.CountsSessions = p.CountsSessions || strings.Contains(strings.ToLower(policy.When), "sessions.")
			p.AsksPresence = p.AsksPresence || strings.Contains(strings.ToLower(policy.When), "presence.")
		}
		for _, group := range made.lane.qualified {
			p.owners.qualified[group] = true
		}
	}
	return problems
}

// lane returns a lane that was compiled before with the same passes, and stands in the same place; nil if there is
// none.
func (w *work) lane(lane *config.Lane, number int, with *shared) *laneWork {
	if w == nil || w.shared != with {
		return nil
	}
	made := w.lanes[lane]
	if made == nil || made.lane.Number != number {
		return nil
	}
	return made
}

// known are the sound policies of a lane, compiled, and their index.
type known struct {
	lane     *Lane
	policies map[*config.Policy]*Policy
}

// policies are those of the lane of an identifier.
func (w *work) policies(id string) known {
	if w == nil {
		return known{}
	}
	old, at := config.Find(w.config.Lanes, id)
	if at < 0 {
		return known{}
	}
	made := w.lanes[old]
	out := known{made.lane, make(map[*config.Policy]*Policy, len(made.lane.Policies))}
	for _, policy := range made.lane.Policies {
		if !made.faulty[policy.Policy] {
			out.policies[policy.Policy] = policy
		}
	}
	return out
}

// compileLane compiles a lane. Of policies that are known, conditions are not compiled again.
func (p *Plan) compileLane(c *config.Lane, number int, passes map[string]*Pass, tags []string,
	before known) *laneWork {
	lane := &Lane{Lane: c, Number: number}
	w := &laneWork{lane: lane, faulty: map[*config.Policy]bool{}}
	compile := func(text, field string, stage rule.Stage) *rule.Condition {
		cond, found := p.condition(text, stage, tags)
		for _, problem := range found {
			warning := problem.Warning
			problem = problem.On("lane", c.Name, c.ID, field, problem.Remedy)
			problem.Warning = warning
			w.problems = append(w.problems, problem)
		}
		return cond
	}
	lane.when = compile(c.When, "when", rule.Request)
	if c.SecondFactor != "" && c.Factor.When != "" {
		lane.factorWhen = compile(c.Factor.When, "factor.when", rule.Person)
	}
	lane.factorPass = passes[strings.ToLower(c.Factor.Pass)]
	lane.Policies = make([]*Policy, 0, len(c.Policies))
	same := before.lane != nil && len(before.lane.Policies) == len(c.Policies)
	for i, one := range c.Policies {
		policy := &Policy{Policy: one, Number: i + 1}
		if old := before.policies[one]; old != nil {
			*policy = *old
			same = same && old.Number == i+1
			policy.Number = i + 1
		} else {
			same = false
			found := len(w.problems)
			policy.when = compile(policy.When, fmt.Sprintf("policies[%d].when", i), rule.Person)
			w.faulty[one] = len(w.problems) > found
			policy.readGroups(p)
		}
		policy.pass = passes[strings.ToLower(policy.Pass)]
		policy.rows = make([]*Pass, len(policy.Groups))
		for r, row := range policy.Groups {
			policy.rows[r] = passes[strings.ToLower(row.Pass)]
		}
		lane.Policies = append(lane.Policies, policy)
		lane.qualified = append(lane.qualified, policy.qualified...)
	}
	if same {
		lane.policies = before.lane.policies
	} else {
		lane.policies = newIndex(len(lane.Policies), func(i int) []rule.Anchor { return lane.Policies[i].anchors })
	}
	return w
}

// readGroups reads what the group table and the condition of a policy say about groups.
func (policy *Policy) readGroups(p *Plan) {
	policy.byGroup = make(map[string]int, len(policy.Groups))
	for r, row := range policy.Groups {
		if key := rule.FoldString(row.Group); policy.byGroup[key] == 0 {
			policy.byGroup[key] = r + 1
		}
	}
	for _, group := range policy.asks() {
		if store, _ := p.Qualified(group); store != "" {
			policy.qualified = append(policy.qualified, rule.FoldString(group))
		}
	}
	policy.anchors = policy.needs()
}

// condition compiles a condition, and tells what is wrong with it.
func (p *Plan) condition(text string, stage rule.Stage, tags []string) (*rule.Condition, []config.Problem) {
	cond, err := rule.Parse(text, stage, p.Calendar)
	if err != nil {
		problem := config.NewProblem(config.Malformed, "%s", err)
		var at *rule.Error
		if errors.As(err, &at) {
			problem = config.NewProblem(config.Malformed, "column %d: %s", at.Column, at.Message)
			problem.Column, problem.Remedy = at.Column, at.Remedy
		}
		return nil, []config.Problem{problem}
	}
	var out []config.Problem
	for name := range cond.Uses() {
		tag, ok := strings.CutPrefix(name, "client.")
		if !ok || config.ReservedTag(tag) {
			continue
		}
		if _, carried := slices.BinarySearch(tags, tag); !carried {
			problem := config.NewProblem(config.TagUnused, "no client carries the tag %q, so %s is always empty",
				tag, name)
			problem.Remedy = "Set the tag on the clients, or correct its name."
			out = append(out, problem.AsWarning())
		}
	}
	return cond, out
}
