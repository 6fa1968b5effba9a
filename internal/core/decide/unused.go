package decide

import (
	"fmt"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/core/rule"
)

// groups looks for groups of a policy that no longer exist.
func (a *analysis) groups(on results.Finding, n int, policy *Policy) {
	if a.known.Group == nil {
		return
	}
	check := func(field, group string) {
		_, bare := a.plan.Qualified(group)
		exists, gone := a.known.Group(bare)
		f := on
		f.Field = field
		switch {
		case gone:
			f.Code, f.Message = results.GroupGone,
				fmt.Sprintf("group %q was picked in a directory and no longer exists there: nobody can be in it", group)
			f.Remedy = "Choose another group, or pick its replacement."
		case !exists:
			f.Code, f.Note, f.Message = results.GroupUnknown, true,
				fmt.Sprintf("group %q is matched by name only: it was not picked in any directory, and no local "+
					"account is in it", group)
			f.Remedy = "Pick it in its directory so that it still matches after a rename, or correct its name."
		default:
			return
		}
		a.add(f)
	}
	uses := policy.when.Uses()
	for _, group := range append(uses["group"], uses["machine.group"]...) {
		check(on.Field, group)
	}
	for r, row := range policy.Groups {
		check(fmt.Sprintf("policies[%d].groups[%d].group", n, r), row.Group)
	}
}

// unused looks for objects that nothing refers to.
func (a *analysis) unused() {
	c := a.plan.Config
	used := map[string]bool{}
	use := func(kind, name string) {
		if name != "" {
			used[kind+"\x00"+strings.ToLower(name)] = true
		}
	}
	a.commandLists()
	anyCertificate, anyTrust := false, false // a lane that names none takes the first
	conditions := func(when *rule.Condition) {
		for _, name := range when.Uses()["time"] {
			use("calendar", name)
		}
	}
	for _, lane := range a.plan.Lanes {
		conditions(lane.when)
		use("realm", lane.Realm)
		use("certificate", lane.TLS.Certificate)
		use("trust", lane.TLS.Trust)
		anyCertificate = anyCertificate || lane.TLS.Certificate == ""
		anyTrust = anyTrust || lane.TLS.Trust == ""
		for _, policy := range lane.Policies {
			conditions(policy.when)
			use("pass", policy.Pass)
			for _, row := range policy.Groups {
				use("pass", row.Pass)
			}
		}
		for _, name := range lane.Forward {
			use("remote", name)
		}
		if len(lane.Policies) == 0 && len(lane.Forward) == 0 {
			a.add(results.Finding{Code: results.NoPolicy, Note: true, Kind: "lane", Object: lane.Name, ID: lane.ID,
				Field: "policies", Message: "the lane has no policy, so everyone is refused",
				Remedy: "Add a policy."})
		}
	}
	for i := range c.Clients {
		use("certificate", c.Clients[i].TLSCertificate)
		use("trust", c.Clients[i].TLSTrust)
	}
	for i := range c.Passes {
		use("pass", c.Passes[i].Extends)
	}
	for i := range c.Overrides {
		use("pass", c.Overrides[i].Pass)
	}
	for i := range c.Remotes {
		use("pass", c.Remotes[i].Pass)
		use("certificate", c.Remotes[i].Certificate)
	}
	for _, f := range c.Feeds {
		use("certificate", f.Certificate)
	}
	for i := range c.Realms {
		for _, step := range c.Realms[i].Lookup {
			use("directory", step.Store)
		}
	}
	for i := range c.Passes {
		use("pool", c.Passes[i].Pool)
	}
	report := func(kind, name, id, what string) {
		if !used[kind+"\x00"+strings.ToLower(name)] {
			a.add(results.Finding{Code: results.Unused, Note: true, Kind: kind, Object: name, ID: id, Field: "name",
				Message: what, Remedy: "Remove it, or use it."})
		}
	}
	for i := range c.Passes {
		report("pass", c.Passes[i].Name, c.Passes[i].ID, "no policy uses this pass")
	}
	for i := range c.Calendars {
		report("calendar", c.Calendars[i].Name, c.Calendars[i].ID, "no condition uses this calendar")
	}
	for i := range c.Remotes {
		report("remote", c.Remotes[i].Name, c.Remotes[i].ID, "no lane forwards to this server")
	}
	for i := range c.Pools {
		report("pool", c.Pools[i].Name, c.Pools[i].ID, "no pass uses this pool")
	}
	for i := range c.Directories {
		report("directory", c.Directories[i].Name, c.Directories[i].ID, "no realm uses this directory")
	}
	if anyTrust && len(c.Trusts) == 1 {
		use("trust", c.Trusts[0].Name)
	}
	signed := slices.IndexFunc(c.Certificates, func(one *config.Certificate) bool { return one.Chain != "" })
	if anyCertificate && signed >= 0 {
		use("certificate", c.Certificates[signed].Name)
	}
	for i := range c.Trusts {
		report("trust", c.Trusts[i].Name, c.Trusts[i].ID, "no lane uses this trust list")
	}
	for i := range c.Certificates {
		report("certificate", c.Certificates[i].Name, c.Certificates[i].ID, "no lane uses this certificate")
	}
}
