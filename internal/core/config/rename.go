package config

import (
	"slices"
	"strings"
)

// Rename follows a new name of an object through everything that refers to it. It must be called
// with the old name before or after the object itself is changed. Conditions are left alone:
// they are text that the administrator wrote. The configuration must be a Copy.
func (c *Config) Rename(kind, from, to string) {
	r := renaming{from, to}
	switch kind {
	case "directory":
		follow(r, c.Realms, func(o *Realm) (out []*string) {
			for j := range o.Lookup {
				out = append(out, &o.Lookup[j].Store)
			}
			return out
		})
		follow(r, c.Overrides, func(o *Override) []*string { return []*string{&o.Store} })
	case "client":
		follow(r, c.Expectations, func(o *Expectation) []*string { return []*string{&o.Client} })
	case "command-list":
		follow(r, c.Passes, func(o *Pass) []*string { return []*string{&o.Commands} })
		follow(r, c.CommandLists, func(o *CommandList) []*string { return each(o.Extends) })
	case "lane":
		follow(r, c.Overrides, func(o *Override) []*string { return []*string{&o.Lane} })
	case "authority":
		follow(r, c.Trusts, func(o *Trust) []*string { return each(o.Authorities) })
	case "certificate":
		follow(r, c.Lanes, func(o *Lane) []*string { return []*string{&o.TLS.Certificate} })
		follow(r, c.Clients, func(o *Client) []*string { return []*string{&o.TLSCertificate} })
		follow(r, c.Remotes, func(o *Remote) []*string { return []*string{&o.Certificate} })
		follow(r, c.Feeds, func(o *Feed) []*string { return []*string{&o.Certificate} })
	case "trust":
		follow(r, c.Lanes, func(o *Lane) []*string { return []*string{&o.TLS.Trust} })
		follow(r, c.Clients, func(o *Client) []*string { return []*string{&o.TLSTrust} })
	case "pool":
		follow(r, c.Passes, func(o *Pass) []*string { return []*string{&o.Pool} })
	case "remote":
		follow(r, c.Lanes, func(o *Lane) []*string { return each(o.Forward) })
	case "realm":
		follow(r, c.Lanes, func(o *Lane) []*string { return []*string{&o.Realm} })
	case "pass":
		c.renamePass(r)
	}
}

func (c *Config) renamePass(r renaming) {
	follow(r, c.Passes, func(o *Pass) []*string { return []*string{&o.Extends} })
	follow(r, c.Overrides, func(o *Override) []*string { return []*string{&o.Pass} })
	follow(r, c.Expectations, func(o *Expectation) []*string { return []*string{&o.Pass} })
	follow(r, c.Remotes, func(o *Remote) []*string { return []*string{&o.Pass} })
	follow(r, c.Lanes, func(o *Lane) []*string { return []*string{&o.Factor.Pass} })
	named := func(o *Policy) []*string {
		out := []*string{&o.Pass}
		for j := range o.Groups {
			out = append(out, &o.Groups[j].Pass)
		}
		return out
	}
	for i, lane := range c.Lanes {
		if slices.ContainsFunc(lane.Policies, func(p *Policy) bool { return r.in(named(p)) }) {
			follow(r, Own(c.Lanes, i).Policies, named)
		}
	}
}

// renaming is the name that an object had, and the one that it has.
type renaming struct{ from, to string }

func (r renaming) in(texts []*string) bool {
	return slices.ContainsFunc(texts, func(text *string) bool { return strings.EqualFold(*text, r.from) })
}

// follow changes the names in the objects of a list that hold the old one.
func follow[T any](r renaming, list []*T, names func(*T) []*string) {
	for i, o := range list {
		if !r.in(names(o)) {
			continue
		}
		for _, text := range names(Own(list, i)) {
			if strings.EqualFold(*text, r.from) {
				*text = r.to
			}
		}
	}
}

func each(list []string) []*string {
	out := make([]*string, len(list))
	for i := range list {
		out[i] = &list[i]
	}
	return out
}
