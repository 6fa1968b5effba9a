package config

import (
	"fmt"
	"slices"
	"strings"
)

// Revert takes back one change of a draft: the object is again as it is in the running configuration, in its place.
// kind and id are those of the change; for a policy, lane is the identifier of its lane.
func (c *Config) Revert(running *Config, kind, id, lane string) error {
	switch kind {
	case "client":
		return revert("client", &c.Clients, running.Clients, id)
	case "directory":
		return revert("directory", &c.Directories, running.Directories, id)
	case "realm":
		return revert("realm", &c.Realms, running.Realms, id)
	case "lane":
		return revert("lane", &c.Lanes, running.Lanes, id)
	case "pass":
		return revert("pass", &c.Passes, running.Passes, id)
	case "authority":
		return revert("authority", &c.Authorities, running.Authorities, id)
	case "certificate":
		return revert("certificate", &c.Certificates, running.Certificates, id)
	case "trust":
		return revert("trust", &c.Trusts, running.Trusts, id)
	case "calendar":
		return revert("calendar", &c.Calendars, running.Calendars, id)
	case "pool":
		return revert("pool", &c.Pools, running.Pools, id)
	case "remote":
		return revert("remote", &c.Remotes, running.Remotes, id)
	case "vendor":
		return revert("vendor", &c.Vendors, running.Vendors, id)
	case "override":
		return revert("override", &c.Overrides, running.Overrides, id)
	case "command-list":
		return revert("command-list", &c.CommandLists, running.CommandLists, id)
	case "feed":
		return revert("feed", &c.Feeds, running.Feeds, id)
	case "source":
		return revert("source", &c.Sources, running.Sources, id)
	case "scope":
		return revert("scope", &c.Scopes, running.Scopes, id)
	case "subscriber":
		return revert("subscriber", &c.Subscribers, running.Subscribers, id)
	case "device-kind":
		return revert("device-kind", &c.DeviceKinds, running.DeviceKinds, id)
	case "expectation":
		return revert("expectation", &c.Expectations, running.Expectations, id)
	case "policy":
		_, at := Find(c.Lanes, lane)
		from, was := Find(running.Lanes, lane)
		if at < 0 || was < 0 {
			return fmt.Errorf("the lane of the policy is new or removed; discard the change of the lane")
		}
		return revert("policy", &Own(c.Lanes, at).Policies, from.Policies, id)
	}
	return fmt.Errorf("%q is not a kind of object", kind)
}

// revert makes one object of a list what it is in another list, and puts it after the object that it follows there.
func revert[T any, P Object[T]](kind string, list *[]*T, running []*T, id string) error {
	place := func(in []*T) int { return slices.IndexFunc(in, func(o *T) bool { return P(o).Ident() == id }) }
	at, was := place(*list), place(running)
	if at < 0 && was < 0 {
		return fmt.Errorf("there is no %s %q in the draft or in what is running", kind, id)
	}
	if at >= 0 {
		*list = slices.Delete(*list, at, at+1)
	}
	if was < 0 {
		return nil
	}
	if name := P(running[was]).Label(); slices.ContainsFunc(*list, func(o *T) bool {
		return strings.EqualFold(P(o).Label(), name)
	}) {
		return fmt.Errorf("the draft holds another %s called %q; discard that first", kind, name)
	}
	to := 0
	for before := was - 1; before >= 0; before-- { // behind the nearest before it that is still there
		if i := slices.IndexFunc(*list, func(o *T) bool {
			return P(o).Ident() == P(running[before]).Ident()
		}); i >= 0 {
			to = i + 1
			break
		}
	}
	*list = slices.Insert(*list, to, running[was])
	return nil
}
