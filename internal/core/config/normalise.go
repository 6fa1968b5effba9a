package config

import (
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
)

// Normalise tidies everything that people type in more than one way: spaces, trailing slashes, host bits in
// prefixes, missing ports. What it cannot make sense of stays as it is, for Check to report.
func (c *Config) Normalise() {
	c.fill()
	for i := range c.Clients {
		c.Clients[i].normalise()
	}
	for i := range c.Directories {
		c.Directories[i].normalise()
	}
	for i := range c.Realms {
		c.Realms[i].normalise()
	}
	for i := range c.Lanes {
		c.Lanes[i].normalise()
	}
	for i := range c.Passes {
		c.Passes[i].normalise()
	}
	for i := range c.Calendars {
		c.Calendars[i].normalise()
	}
	for i := range c.Pools {
		p := &c.Pools[i]
		trim(&p.Name, &p.Note)
		p.Ranges = unique(p.Ranges)
	}
	for i := range c.Remotes {
		c.Remotes[i].normalise()
	}
	for i := range c.Vendors {
		c.Vendors[i].normalise()
	}
	for i := range c.Overrides {
		o := &c.Overrides[i]
		trim(&o.Name, &o.Person, &o.Store, &o.Lane, &o.Pass, &o.Owner, &o.Note)
	}
	for i := range c.Expectations {
		e := &c.Expectations[i]
		trim(&e.Name, &e.Sent, &e.Client, &e.Method, &e.Pass, &e.VLAN, &e.Reason, &e.Note)
	}
	for i := range c.CommandLists {
		c.CommandLists[i].normalise()
	}
	for i := range c.Authorities {
		trim(&c.Authorities[i].Name, &c.Authorities[i].Note)
	}
	for i := range c.Certificates {
		trim(&c.Certificates[i].Name, &c.Certificates[i].Chain, &c.Certificates[i].Note)
	}
	for i := range c.Trusts {
		c.Trusts[i].normalise()
	}
}

func (c *Client) normalise() {
	trim(&c.Name, &c.TACACSCertificate, &c.TACACSTrust, &c.Note)
	for i := range c.TACACSNames {
		trim(&c.TACACSNames[i])
	}
	c.TACACSNames = unique(c.TACACSNames)
	if c.MessageAuthenticator == "" {
		c.MessageAuthenticator = Require
	}
	for i, text := range c.Addresses {
		if prefix, err := ParsePrefix(text); err == nil {
			c.Addresses[i] = FormatPrefix(prefix)
		}
	}
	c.Addresses = unique(c.Addresses)
	tidy := map[string]string{}
	for key, value := range c.Tags {
		tidy[strings.ToLower(strings.TrimSpace(key))] = strings.TrimSpace(value)
	}
	c.Tags = tidy
}

func (r *Realm) normalise() {
	trim(&r.Name, &r.Rewrite, &r.Note)
	if r.Rewrite == "" {
		r.Rewrite = "{name}"
	}
	for i := range r.Forms {
		form := &r.Forms[i]
		value := strings.TrimSpace(form.Value)
		switch form.Kind {
		case Suffix:
			form.Value = strings.ToLower(strings.TrimPrefix(value, "@"))
		case Prefix:
			form.Value = strings.ToUpper(strings.TrimSuffix(value, `\`))
		case Bare:
			form.Value = ""
		}
	}
	for i := range r.Lookup {
		trim(&r.Lookup[i].Store)
		if r.Lookup[i].Unreachable == "" {
			r.Lookup[i].Unreachable = Refuse
		}
	}
}

func (l *Lane) normalise() {
	trim(&l.Name, &l.When, &l.Realm, &l.Note)
	if l.When == "" {
		l.When = "always"
	}
	for i := range l.Methods {
		l.Methods[i] = strings.ToLower(strings.TrimSpace(l.Methods[i]))
	}
	l.Methods, l.Forward = unique(l.Methods), unique(l.Forward)
	l.TLS.normalise()
	for i := range l.Policies {
		p := &l.Policies[i]
		trim(&p.Name, &p.When, &p.Pass, &p.Message, &p.Owner, &p.Note)
		if p.When == "" {
			p.When = "always"
		}
		if p.Outcome == "" {
			p.Outcome = Admit
		}
		if p.Outcome == Refusal {
			p.Pass = ""
		}
		for j := range p.Groups {
			trim(&p.Groups[j].Group, &p.Groups[j].Pass)
		}
	}
}

func trim(texts ...*string) {
	for _, text := range texts {
		*text = strings.TrimSpace(*text)
	}
}

// unique trims the entries and drops empty and repeated ones, keeping the order.
func unique(list []string) []string {
	out := make([]string, 0, len(list))
	seen := map[string]bool{}
	for _, entry := range list {
		entry = strings.TrimSpace(entry)
		if entry == "" || seen[strings.ToLower(entry)] {
			continue
		}
		seen[strings.ToLower(entry)] = true
		out = append(out, entry)
	}
	return out
}

// ParsePrefix reads an address or a prefix, with spaces around it or host bits set, and returns the masked prefix.
func ParsePrefix(text string) (netip.Prefix, error) {
	text = strings.TrimSpace(text)
	if prefix, err := netip.ParsePrefix(text); err == nil {
		if a := prefix.Addr(); a.Is4In6() && prefix.Bits() >= 96 {
			prefix = netip.PrefixFrom(a.Unmap(), prefix.Bits()-96)
		}
		return prefix.Masked(), nil
	}
	addr, err := netip.ParseAddr(strings.Trim(text, "[]"))
	if err != nil {
		return netip.Prefix{},
			fmt.Errorf("%q is neither an address nor a prefix such as 192.0.2.0/24 or 2001:db8::/32", text)
	}
	addr = addr.Unmap().WithZone("")
	return netip.PrefixFrom(addr, addr.BitLen()), nil
}

// FormatPrefix writes a single address without its length.
func FormatPrefix(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// ParseServer reads host, host:port or an ldap URL; the scheme of a URL overrides the mode, and the mode's port is
// added where none is given.
func ParseServer(text string, mode TLSMode) (string, TLSMode) {
	text = strings.TrimSpace(text)
	lower := strings.ToLower(text)
	switch {
	case strings.HasPrefix(lower, "ldaps://"):
		text, mode = text[len("ldaps://"):], LDAPS
	case strings.HasPrefix(lower, "ldap://"):
		text = text[len("ldap://"):]
		if mode == LDAPS {
			mode = StartTLS
		}
	}
	text = strings.TrimRight(text, "/")
	if host, port, err := net.SplitHostPort(text); err == nil && port != "" {
		return net.JoinHostPort(strings.TrimRight(host, "."), port), mode
	}
	host := strings.TrimRight(strings.Trim(strings.TrimSuffix(text, ":"), "[]"), ".")
	if host == "" {
		return "", mode
	}
	return net.JoinHostPort(host, strconv.Itoa(mode.DefaultPort())), mode
}
