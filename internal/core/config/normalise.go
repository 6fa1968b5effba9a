package config

import (
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
)

// Normalise tidies everything that people type in more than one way: spaces, trailing slashes, host bits in
// prefixes, missing ports. What it cannot make sense of stays as it is, for Check to report. It changes the objects, so
// no other configuration may share them.
func (c *Config) Normalise() { c.NormaliseSince(&Config{}) }

// NormaliseSince tidies the objects that do not stand in a configuration before, which was normalised. Missing lists
// become empty ones, so that every JSON form has lists and never null.
func (c *Config) NormaliseSince(before *Config) {
	fresh(before.Clients, &c.Clients, (*Client).normalise)
	fresh(before.Directories, &c.Directories, (*Directory).normalise)
	fresh(before.Realms, &c.Realms, (*Realm).normalise)
	lanes := before.Lanes
	fresh(before.Lanes, &c.Lanes, func(l *Lane) {
		l.normalise()
		old, at := Find(lanes, l.ID)
		if at < 0 {
			old = &Lane{}
		}
		fresh(old.Policies, &l.Policies, (*Policy).normalise)
	})
	fresh(before.Passes, &c.Passes, (*Pass).normalise)
	fresh(before.Calendars, &c.Calendars, (*Calendar).normalise)
	fresh(before.Pools, &c.Pools, func(p *Pool) {
		trim(&p.Name, &p.Note)
		p.Ranges = unique(p.Ranges)
	})
	fresh(before.Remotes, &c.Remotes, (*Remote).normalise)
	fresh(before.Vendors, &c.Vendors, (*Vendor).normalise)
	fresh(before.Overrides, &c.Overrides, func(o *Override) {
		trim(&o.Name, &o.Person, &o.Store, &o.Lane, &o.Pass, &o.Owner, &o.Note)
	})
	fresh(before.Expectations, &c.Expectations, func(e *Expectation) {
		orEmpty(&e.Attributes)
		trim(&e.Name, &e.Sent, &e.Client, &e.Method, &e.Pass, &e.VLAN, &e.Reason, &e.Note)
	})
	fresh(before.CommandLists, &c.CommandLists, (*CommandList).normalise)
	fresh(before.Feeds, &c.Feeds, (*Feed).normalise)
	fresh(before.Sources, &c.Sources, (*Source).normalise)
	fresh(before.Scopes, &c.Scopes, (*Scope).normalise)
	fresh(before.Subscribers, &c.Subscribers, (*Subscriber).normalise)
	fresh(before.DeviceKinds, &c.DeviceKinds, (*DeviceKind).normalise)
	fresh(before.Authorities, &c.Authorities, func(a *Authority) { trim(&a.Name, &a.Note) })
	fresh(before.Certificates, &c.Certificates, func(o *Certificate) { trim(&o.Name, &o.Chain, &o.Note) })
	fresh(before.Trusts, &c.Trusts, (*Trust).normalise)
	c.settleTrust()
}

// fresh tidies the objects of a list that do not stand in the one before.
func fresh[T any](before []*T, list *[]*T, tidy func(*T)) {
	orEmpty(list)
	changed, _ := Fresh(before, *list)
	for _, o := range changed {
		tidy(o)
	}
}

func orEmpty[T any](list *[]T) {
	if *list == nil {
		*list = []T{}
	}
}

func (c *Client) normalise() {
	orEmpty(&c.Addresses)
	trim(&c.Name, &c.TLSCertificate, &c.TLSTrust, &c.Note)
	for i := range c.TLSNames {
		trim(&c.TLSNames[i])
	}
	c.TLSNames = unique(c.TLSNames)
	c.Sessions.normalise()
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
	orEmpty(&r.Forms)
	orEmpty(&r.Lookup)
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
	l.Factor.normalise()
}

func (p *Policy) normalise() {
	orEmpty(&p.Groups)
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
