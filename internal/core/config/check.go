package config

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Bounds of a configuration, so that hostile or mistaken input cannot grow it without end.
const (
	maxName      = 100
	maxText      = 4000
	maxList      = 200
	maxObjects   = 200_000
	maxPolicies  = 10_000
	maxGroupRows = 2_000
)

type checker struct {
	kind, object, id string
	problems         []Problem
	// passes are the names and identifiers of passes, clients the names of clients; read when they are needed.
	passes, clients map[string]bool
}

// known makes a set of the names and identifiers of objects.
func known[T any, P Object[T]](list []*T) map[string]bool {
	out := make(map[string]bool, 2*len(list))
	for _, o := range list {
		out[P(o).Ident()] = true
		out[strings.ToLower(P(o).Label())] = true
	}
	return out
}

func (k *checker) on(kind, object, id string) { k.kind, k.object, k.id = kind, object, id }

// fail notes a problem that stops a publish. The arguments of the message are the parameters of the problem.
func (k *checker) fail(field string, code ProblemCode, remedy, format string, args ...any) {
	k.problems = append(k.problems, NewProblem(code, format, args...).On(k.kind, k.object, k.id, field, remedy))
}

// warn notes a problem that does not stop a publish.
func (k *checker) warn(field string, code ProblemCode, remedy, format string, args ...any) {
	k.fail(field, code, remedy, format, args...)
	k.problems[len(k.problems)-1].Warning = true
}

// Check validates everything about a configuration that needs neither the condition language nor the dictionary;
// decide.Compile does the same in parts, and adds those.
func (c *Config) Check() []Problem {
	problems := slices.Concat(new(ClientIndex).Check(c), c.CheckRest())
	for _, found := range c.CheckLanes(c.Lanes) {
		problems = append(problems, found...)
	}
	return problems
}

// CheckRest validates everything but clients and what is in the lanes.
func (c *Config) CheckRest() []Problem {
	k := &checker{}
	names(k, "client", nil, c.Clients) // the index of clients knows their names
	names(k, "directory", c.Directories, c.Directories)
	names(k, "realm", c.Realms, c.Realms)
	names(k, "lane", c.Lanes, c.Lanes)
	names(k, "pass", c.Passes, c.Passes)
	names(k, "authority", c.Authorities, c.Authorities)
	names(k, "certificate", c.Certificates, c.Certificates)
	names(k, "trust", c.Trusts, c.Trusts)
	names(k, "calendar", c.Calendars, c.Calendars)
	names(k, "pool", c.Pools, c.Pools)
	names(k, "remote", c.Remotes, c.Remotes)
	names(k, "vendor", c.Vendors, c.Vendors)
	names(k, "override", c.Overrides, c.Overrides)
	names(k, "expectation", c.Expectations, c.Expectations)
	names(k, "command-list", c.CommandLists, c.CommandLists)
	c.checkCommandLists(k)
	names(k, "feed", c.Feeds, c.Feeds)
	c.checkFeeds(k)
	names(k, "source", c.Sources, c.Sources)
	c.checkSources(k)
	names(k, "scope", c.Scopes, c.Scopes)
	c.checkScopes(k)
	names(k, "subscriber", c.Subscribers, c.Subscribers)
	c.checkSubscribers(k)
	names(k, "device-kind", c.DeviceKinds, c.DeviceKinds)
	c.checkDeviceKinds(k)
	c.checkCalendars(k)
	c.checkPools(k)
	c.checkRemotes(k)
	c.checkVendors(k)
	c.checkOverrides(k)
	c.checkExpectations(k)
	c.checkDirectories(k)
	c.checkRealms(k)
	c.checkPasses(k)
	c.checkCertificates(k)
	return k.problems
}

// CheckLanes validates lanes of the configuration, and what is in them; the problems are by lane.
func (c *Config) CheckLanes(lanes []*Lane) [][]Problem {
	out := make([][]Problem, len(lanes))
	k := &checker{}
	for i, l := range lanes {
		c.checkLane(k, l)
		out[i], k.problems = k.problems, nil
	}
	return out
}

// names checks how many objects of a kind there are, and the names of a list of them.
func names[T any, P Object[T]](k *checker, kind string, list, all []*T) {
	if len(all) > maxObjects {
		k.on(kind, "", "")
		k.fail("", TooMany, "Remove some.", "%d objects of this kind, at most %d are allowed", len(all), maxObjects)
	}
	seen := make(map[string]bool, len(list))
	for _, o := range list {
		k.on(kind, P(o).Label(), P(o).Ident())
		lower := strings.ToLower(P(o).Label())
		k.name(kind, seen[lower])
		seen[lower] = true
	}
}

// name checks the name of the object; taken tells that another one has it.
func (k *checker) name(kind string, taken bool) {
	switch name := k.object; {
	case name == "":
		k.fail("name", Required, "Give it a name.", "the name is empty")
	case len(name) > maxName:
		k.fail("name", TooMany, "Shorten it.", "the name has %d octets, at most %d are allowed", len(name), maxName)
	case strings.ContainsAny(name, "\"\n\r\t/"):
		k.fail("name", Malformed, "Use other characters.", "the name holds a quotation mark, a slash, a tab or a "+
			"line end")
	case taken:
		k.fail("name", Taken, "Choose a different name.", "another %s has this name", kind)
	}
}

// ReservedTag reports whether client.KEY already means something else in conditions.
func ReservedTag(key string) bool { return key == "name" || key == "address" }

func isWord(text string) bool {
	for _, r := range text {
		if !(r == '-' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9') {
			return false
		}
	}
	return text != ""
}

func (c *Config) checkRealms(k *checker) {
	owner := map[Form]string{}
	for i := range c.Realms {
		r := c.Realms[i]
		k.on("realm", r.Name, r.ID)
		if len(r.Forms) == 0 {
			k.fail("forms", Required, "Add a suffix, a prefix or bare.", "no name form")
		}
		for j, form := range r.Forms {
			field := fmt.Sprintf("forms[%d]", j)
			switch {
			case form.Kind != Suffix && form.Kind != Prefix && form.Kind != Bare:
				k.fail(field, Unknown, "Use suffix, prefix or bare.", "%q is not a name form", form.Kind)
			case form.Kind != Bare && form.Value == "":
				k.fail(field, Required, "Write for instance @lanternferries.example.", "a %s without a value",
					form.Kind)
			case owner[form] != "":
				k.fail(field, Taken, "Remove it from one of the two.", "the form %s already belongs to realm %q", form,
					owner[form])
			default:
				owner[form] = r.Name
			}
		}
		if !strings.Contains(r.Rewrite, "{name}") && !strings.Contains(r.Rewrite, "{sent}") {
			k.fail("rewrite", Conflict, "Use {name} for the part without the realm, or {sent}.",
				"%q would give everybody the same name", r.Rewrite)
		}
		if len(r.Lookup) == 0 {
			k.fail("lookup", Required, "Add a directory, or local.", "no directory or local store to look in")
		}
		for j, step := range r.Lookup {
			field := fmt.Sprintf("lookup[%d]", j)
			if _, at := Find(c.Directories, step.Store); at < 0 && !strings.EqualFold(step.Store, LocalStore) {
				k.fail(field, NotFound, "Choose one of the directories, or local.", "there is no directory %q",
					step.Store)
			}
			if step.Unreachable != Refuse && step.Unreachable != Next && step.Unreachable != Silent {
				k.fail(field, Unknown, "Use refuse, next or silent.", "%q is not what a lookup can do",
					step.Unreachable)
			}
			for _, earlier := range r.Lookup[:j] {
				if strings.EqualFold(earlier.Store, step.Store) {
					k.fail(field, Taken, "Remove one of the two.", "%q is listed twice", step.Store)
				}
			}
		}
	}
}

func (c *Config) checkLane(k *checker, l *Lane) {
	k.on("lane", l.Name, l.ID)
	c.checkForward(k, l)
	// commands need none
	if len(l.Methods) == 0 && len(l.Forward) == 0 && !strings.Contains(l.When, "device-command") {
		k.fail("methods", Required, "Choose at least one.", "no method is allowed")
	}
	for j, method := range l.Methods {
		if !slices.Contains(Methods, method) {
			k.fail(fmt.Sprintf("methods[%d]", j), Unknown, "Use one of: "+strings.Join(Methods, ", ")+".",
				"%q is not a method", method)
		}
	}
	if l.Realm != "" {
		if _, at := Find(c.Realms, l.Realm); at < 0 {
			k.fail("realm", NotFound, "Choose one of the realms, or leave it empty to choose by the form of "+
				"the name.",
				"there is no realm %q", l.Realm)
		}
	}
	c.checkTLS(k, l)
	c.checkMethods(k, l)
	c.checkFactor(k, l)
	if l.RejectDelayMillis < 0 || l.RejectDelayMillis > 5000 {
		k.fail("rejectDelayMillis", OutOfRange, "Use 0 to 5000 ms; 1000 is usual.", "%d ms is out of range",
			l.RejectDelayMillis)
	}
	if len(l.Policies) > maxPolicies {
		k.fail("policies", TooMany, "Use group tables.", "%d policies, at most %d are allowed", len(l.Policies),
			maxPolicies)
	}
	seen := map[string]bool{}
	for j := range l.Policies {
		c.checkPolicy(k, l.Policies[j], fmt.Sprintf("policies[%d]", j), seen)
	}
}

func (c *Config) checkPolicy(k *checker, p *Policy, at string, seen map[string]bool) {
	switch {
	case p.Name == "":
		k.fail(at+".name", Required, "Give it a name.", "the policy has no name")
	case seen[strings.ToLower(p.Name)]:
		k.fail(at+".name", Taken, "Choose a different name.", "another policy of this lane is called %q", p.Name)
	case len(p.Name) > maxName:
		k.fail(at+".name", TooLong, fmt.Sprintf("Use at most %d octets.", maxName), "the name is too long")
	}
	seen[strings.ToLower(p.Name)] = true
	if len(p.Message) > 253 {
		k.fail(at+".message", TooMany, "Shorten it.", "a message has at most 253 octets")
	}
	if len(p.Owner) > maxName {
		k.fail(at+".owner", TooLong, fmt.Sprintf("Use at most %d octets.", maxName), "the owner is too long")
	}
	if !p.From.IsZero() && !p.Until.IsZero() && !p.Until.After(p.From) {
		k.fail(at+".until", Conflict, "Correct one of the two.",
			"the policy ends before it begins, so it is never valid")
	}
	if p.Outcome != Admit && p.Outcome != Refusal {
		k.fail(at+".outcome", Unknown, "Use admit or refuse.", "%q is not an outcome", p.Outcome)
		return
	}
	if p.Outcome == Refusal {
		if len(p.Groups) > 0 {
			k.fail(at+".groups", Conflict, "Remove the table, or write the groups into the condition.",
				"a group table grants passes, but this policy refuses")
		}
		return
	}
	if len(p.Groups) > maxGroupRows {
		k.fail(at+".groups", TooMany, "Split the policy.", "%d rows, at most %d are allowed", len(p.Groups),
			maxGroupRows)
	}
	if len(p.Groups) == 0 {
		c.checkPassName(k, at+".pass", p.Pass)
	} else if p.Pass != "" {
		k.fail(at+".pass", Conflict, "Remove the pass of the policy, or the table.",
			"the policy has a group table, so its pass comes from the rows")
	}
	rows := map[string]int{}
	for r, row := range p.Groups {
		field := fmt.Sprintf("%s.groups[%d]", at, r)
		if row.Group == "" {
			k.fail(field+".group", Required, "Choose a group.", "no group")
		} else if first, twice := rows[strings.ToLower(row.Group)]; twice {
			k.warn(field+".group", Taken, "Remove one of the rows.", "row %d already matches everyone in group %q",
				first+1, row.Group)
		} else {
			rows[strings.ToLower(row.Group)] = r
		}
		c.checkPassName(k, field+".pass", row.Pass)
	}
}

func (c *Config) checkPassName(k *checker, field, name string) {
	if name == "" {
		k.fail(field, Required, "Choose a pass; one without attributes leaves the port unchanged.",
			"admits without a pass")
		return
	}
	if k.passes == nil {
		k.passes = known(c.Passes)
	}
	if !k.passes[name] && !k.passes[strings.ToLower(name)] {
		k.fail(field, NotFound, "Choose an existing pass, or add this one.", "there is no pass %q", name)
	}
}

// CheckVLAN accepts an identifier from 1 to 4094 or a name; "" is no VLAN, and a template is checked when it is filled.
func CheckVLAN(text string) error {
	if strings.Contains(text, "{{") {
		return nil
	}
	if n, err := strconv.Atoi(text); err == nil {
		if n < 1 || n > 4094 {
			return fmt.Errorf("VLAN %d does not exist: identifiers go from 1 to 4094", n)
		}
		return nil
	}
	if len(text) > 32 {
		return fmt.Errorf("a VLAN name has at most 32 octets, this has %d", len(text))
	}
	return nil
}

// Sort orders problems: errors first, otherwise as found.
func Sort(problems []Problem) {
	slices.SortStableFunc(problems, func(a, b Problem) int {
		return cmp.Compare(boolInt(a.Warning), boolInt(b.Warning))
	})
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
