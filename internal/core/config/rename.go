package config

import "strings"

// Rename follows a new name of an object through everything that refers to it. It must be called
// with the old name before or after the object itself is changed. Conditions are left alone:
// they are text that the administrator wrote.
func (c *Config) Rename(kind, from, to string) {
	follow := func(text *string) {
		if strings.EqualFold(*text, from) {
			*text = to
		}
	}
	switch kind {
	case "directory":
		for i := range c.Realms {
			for j := range c.Realms[i].Lookup {
				follow(&c.Realms[i].Lookup[j].Store)
			}
		}
		for i := range c.Overrides {
			follow(&c.Overrides[i].Store)
		}
	case "client":
		for i := range c.Expectations {
			follow(&c.Expectations[i].Client)
		}
	case "command-list":
		for i := range c.Passes {
			follow(&c.Passes[i].Commands)
		}
		for i := range c.CommandLists {
			for j := range c.CommandLists[i].Extends {
				follow(&c.CommandLists[i].Extends[j])
			}
		}
	case "lane":
		for i := range c.Overrides {
			follow(&c.Overrides[i].Lane)
		}
	case "authority":
		for i := range c.Trusts {
			for j := range c.Trusts[i].Authorities {
				follow(&c.Trusts[i].Authorities[j])
			}
		}
	case "certificate":
		for i := range c.Lanes {
			follow(&c.Lanes[i].TLS.Certificate)
		}
		for i := range c.Clients {
			follow(&c.Clients[i].TACACSCertificate)
		}
	case "trust":
		for i := range c.Lanes {
			follow(&c.Lanes[i].TLS.Trust)
		}
		for i := range c.Clients {
			follow(&c.Clients[i].TACACSTrust)
		}
	case "pool":
		for i := range c.Passes {
			follow(&c.Passes[i].Pool)
		}
	case "remote":
		for i := range c.Lanes {
			for j := range c.Lanes[i].Forward {
				follow(&c.Lanes[i].Forward[j])
			}
		}
	case "realm":
		for i := range c.Lanes {
			follow(&c.Lanes[i].Realm)
		}
	case "pass":
		for i := range c.Passes {
			follow(&c.Passes[i].Extends)
		}
		for i := range c.Overrides {
			follow(&c.Overrides[i].Pass)
		}
		for i := range c.Expectations {
			follow(&c.Expectations[i].Pass)
		}
		for i := range c.Remotes {
			follow(&c.Remotes[i].Pass)
		}
		for i := range c.Lanes {
			for j := range c.Lanes[i].Policies {
				p := &c.Lanes[i].Policies[j]
				follow(&p.Pass)
				for r := range p.Groups {
					follow(&p.Groups[r].Pass)
				}
			}
		}
	}
}
