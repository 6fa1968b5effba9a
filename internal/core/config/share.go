package config

import (
	"reflect"
	"slices"
	"time"
)

// Copy returns a configuration with lists of its own and the same objects in them. To change one of them, put a copy in
// its place with Own.
func (c *Config) Copy() *Config {
	out := *c
	out.Clients, out.Directories, out.Realms = slices.Clone(c.Clients), slices.Clone(c.Directories),
		slices.Clone(c.Realms)
	out.Lanes, out.Passes = slices.Clone(c.Lanes), slices.Clone(c.Passes)
	out.Authorities, out.Certificates, out.Trusts = slices.Clone(c.Authorities), slices.Clone(c.Certificates),
		slices.Clone(c.Trusts)
	out.Calendars, out.Pools, out.Remotes = slices.Clone(c.Calendars), slices.Clone(c.Pools), slices.Clone(c.Remotes)
	out.Vendors, out.Overrides, out.Expectations = slices.Clone(c.Vendors), slices.Clone(c.Overrides),
		slices.Clone(c.Expectations)
	out.CommandLists, out.Feeds = slices.Clone(c.CommandLists), slices.Clone(c.Feeds)
	out.Sources, out.Scopes, out.Subscribers = slices.Clone(c.Sources), slices.Clone(c.Scopes),
		slices.Clone(c.Subscribers)
	out.DeviceKinds = slices.Clone(c.DeviceKinds)
	return &out
}

// Own puts a copy of an object in its place in a list and returns it, to be changed. The copy shares nothing with the
// object but the policies of a lane, which are objects of their own.
func Own[T any](list []*T, at int) *T {
	out := new(T)
	Unshare(reflect.ValueOf(out).Elem(), reflect.ValueOf(list[at]).Elem())
	list[at] = out
	return out
}

// Unshare copies a value and what its lists and maps hold, but not what it points to.
func Unshare(to, from reflect.Value) {
	switch from.Kind() {
	case reflect.Struct:
		if from.Type() == reflect.TypeFor[time.Time]() {
			to.Set(from)
			return
		}
		for i := range from.NumField() {
			Unshare(to.Field(i), from.Field(i))
		}
	case reflect.Slice:
		if from.IsNil() {
			return
		}
		out := reflect.MakeSlice(from.Type(), from.Len(), from.Len())
		if kind := from.Type().Elem().Kind(); kind == reflect.Pointer || kind == reflect.String {
			reflect.Copy(out, from)
		} else {
			for i := range from.Len() {
				Unshare(out.Index(i), from.Index(i))
			}
		}
		to.Set(out)
	case reflect.Map:
		if from.IsNil() {
			return
		}
		out := reflect.MakeMapWithSize(from.Type(), from.Len())
		for at := from.MapRange(); at.Next(); {
			out.SetMapIndex(at.Key(), at.Value())
		}
		to.Set(out)
	default:
		to.Set(from)
	}
}

// Fresh lists the objects of a list that do not stand in the list before, and those that no longer stand in it. What
// both lists begin and end with is not looked at twice.
func Fresh[T any](before, after []*T) (fresh, gone []*T) {
	first, last := differ(before, after)
	before, after = before[first:len(before)-last], after[first:len(after)-last]
	if len(before) == 0 || len(after) == 0 {
		return after, before
	}
	was := make(map[*T]bool, len(before))
	for _, o := range before {
		was[o] = true
	}
	for _, o := range after {
		if was[o] {
			delete(was, o)
		} else {
			fresh = append(fresh, o)
		}
	}
	for _, o := range before {
		if was[o] {
			gone = append(gone, o)
		}
	}
	return fresh, gone
}

// differ counts with how many objects both lists begin and end.
func differ[T any](a, b []*T) (first, last int) {
	short := min(len(a), len(b))
	for first < short && a[first] == b[first] {
		first++
	}
	for last < short-first && a[len(a)-1-last] == b[len(b)-1-last] {
		last++
	}
	return first, last
}

// Share puts the objects of a configuration before in place of those that equal them, so that two configurations differ
// in memory where they differ in meaning.
func (c *Config) Share(before *Config) {
	for i, lane := range c.Lanes {
		old, at := Find(before.Lanes, lane.ID)
		if at >= 0 && old != lane {
			policies := slices.Clone(lane.Policies)
			if share(policies, old.Policies) {
				same := *lane
				same.Policies = policies
				c.Lanes[i] = &same
			}
		}
	}
	share(c.Clients, before.Clients)
	share(c.Directories, before.Directories)
	share(c.Realms, before.Realms)
	share(c.Lanes, before.Lanes)
	share(c.Passes, before.Passes)
	share(c.Authorities, before.Authorities)
	share(c.Certificates, before.Certificates)
	share(c.Trusts, before.Trusts)
	share(c.Calendars, before.Calendars)
	share(c.Pools, before.Pools)
	share(c.Remotes, before.Remotes)
	share(c.Vendors, before.Vendors)
	share(c.Overrides, before.Overrides)
	share(c.Expectations, before.Expectations)
	share(c.CommandLists, before.CommandLists)
	share(c.Feeds, before.Feeds)
	share(c.Sources, before.Sources)
	share(c.Scopes, before.Scopes)
	share(c.Subscribers, before.Subscribers)
	share(c.DeviceKinds, before.DeviceKinds)
}

// share puts the objects before in place of those that equal them, and tells whether there were any.
func share[T any, P Object[T]](list, before []*T) bool {
	fresh, gone := Fresh(before, list)
	if len(fresh) == 0 || len(gone) == 0 {
		return false
	}
	old := make(map[string]*T, len(gone))
	for _, o := range gone {
		old[P(o).Ident()] = o
	}
	found := false
	first, last := differ(before, list)
	list = list[first : len(list)-last]
	for i, o := range list {
		if was := old[P(o).Ident()]; was != nil && was != o && reflect.DeepEqual(was, o) {
			list[i], found = was, true
		}
	}
	return found
}

// Same reports whether two configurations hold the same objects, which they share.
func Same(a, b *Config) bool {
	return slices.Equal(a.Lanes, b.Lanes) && sameSet(a.Clients, b.Clients) && sameSet(a.Directories, b.Directories) &&
		sameSet(a.Realms, b.Realms) && sameSet(a.Passes, b.Passes) && sameSet(a.Authorities, b.Authorities) &&
		sameSet(a.Certificates, b.Certificates) && sameSet(a.Trusts, b.Trusts) &&
		sameSet(a.Calendars, b.Calendars) && sameSet(a.Pools, b.Pools) && sameSet(a.Remotes, b.Remotes) &&
		sameSet(a.Vendors, b.Vendors) && sameSet(a.Overrides, b.Overrides) &&
		sameSet(a.Expectations, b.Expectations) && sameSet(a.CommandLists, b.CommandLists) &&
		sameSet(a.Feeds, b.Feeds) && sameSet(a.Sources, b.Sources) && sameSet(a.Scopes, b.Scopes) &&
		sameSet(a.Subscribers, b.Subscribers) && sameSet(a.DeviceKinds, b.DeviceKinds)
}

func sameSet[T any](a, b []*T) bool {
	fresh, gone := Fresh(a, b)
	return len(fresh) == 0 && len(gone) == 0
}
