package config

import (
	"fmt"
	"slices"
	"strings"
)

// AtTimeout says what happens when a session has lasted as long as it may.
type AtTimeout string

const (
	// EndSession is what devices do if nothing is said.
	EndSession AtTimeout = ""
	// SignInAgain asks the device to sign the person in again, without an interruption if that works
	// (Termination-Action RADIUS-Request, RFC 3580 section 3.17).
	SignInAgain AtTimeout = "sign-in-again"
)

// AtLimit says what happens to one session more than a person may have.
type AtLimit string

const (
	// RefuseMore refuses it.
	RefuseMore AtLimit = ""
	// EndOldest admits it, and asks the client of the oldest to disconnect that.
	EndOldest AtLimit = "end-oldest"
)

// Pass is a named bundle of what is granted. Texts may hold templates, such as {{person.mail}}.
type Pass struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Extends is a pass that gives whatever this one leaves open.
	Extends string `json:"extends,omitempty"`
	// VLAN is an identifier from 1 to 4094 or a VLAN name; empty leaves the port as it is.
	VLAN string `json:"vlan,omitempty"`
	// SessionTimeout and IdleTimeout in seconds; 0 is none.
	SessionTimeout int       `json:"sessionTimeout,omitempty"`
	AtTimeout      AtTimeout `json:"atTimeout,omitempty"`
	IdleTimeout    int       `json:"idleTimeout,omitempty"`
	// MaxSessions is how many sessions with this pass one person may have at once, 0 for any number; AtLimit what
	// happens to one more.
	MaxSessions int     `json:"maxSessions,omitempty"`
	AtLimit     AtLimit `json:"atLimit,omitempty"`
	// Role is sent as Filter-Id.
	Role string `json:"role,omitempty"`
	// AccessRules are sent as NAS-Filter-Rule (RFC 4849), one IPFilterRule each (RFC 6733 section 4.3.1).
	AccessRules []string `json:"accessRules"`
	// Address is given to the person as Framed-IP-Address, or Framed-IPv6-Address.
	Address string `json:"address,omitempty"`
	// Pool gives the address instead, one to a session.
	Pool string `json:"pool,omitempty"`
	// ReportName is the User-Name by which the device is to report the session.
	ReportName string `json:"reportName,omitempty"`
	// Class comes back with the accounting of the session.
	Class string `json:"class,omitempty"`
	// RateDown and RateUp are in kbit/s, towards the person and from it; attributes of vendors carry them.
	RateDown   int         `json:"rateDown,omitempty"`
	RateUp     int         `json:"rateUp,omitempty"`
	Attributes []Attribute `json:"attributes"`

	// PrivilegeLevel is the level on network gear, 0 to 15; empty says nothing.
	PrivilegeLevel string `json:"privilegeLevel,omitempty"`
	// Commands names the command list.
	Commands string `json:"commands,omitempty"`
	// Arguments go to gear over TACACS+.
	Arguments []Argument `json:"arguments"`

	Note string `json:"note,omitempty"`
}

func (p *Pass) normalise() {
	orEmpty(&p.Attributes)
	if p.AtLimit == "refuse" {
		p.AtLimit = RefuseMore
	}
	orEmpty(&p.AccessRules)
	orEmpty(&p.Arguments)
	trim(&p.Name, &p.Extends, &p.VLAN, &p.Role, &p.Address, &p.Pool, &p.ReportName, &p.Class, &p.PrivilegeLevel,
		&p.Commands, &p.Note)
	for i := range p.Arguments {
		a := &p.Arguments[i]
		if trim(&a.Service, &a.Name, &a.Value); a.Service == Shell {
			a.Service = ""
		}
	}
	rules := p.AccessRules[:0]
	for _, rule := range p.AccessRules {
		if rule = strings.Join(strings.Fields(rule), " "); rule != "" {
			rules = append(rules, rule)
		}
	}
	p.AccessRules = rules
	for i := range p.Attributes {
		trim(&p.Attributes[i].Name, &p.Attributes[i].Value)
	}
}

// maxExtends bounds how long a chain of passes that extend each other may be.
const maxExtends = 10

// Resolve returns the pass with everything that it takes from those it extends.
func (c *Config) Resolve(p *Pass) (Pass, error) {
	out := *p
	out.Attributes, out.AccessRules, out.Arguments = slices.Clone(p.Attributes), slices.Clone(p.AccessRules),
		slices.Clone(p.Arguments)
	chain := []string{p.Name}
	for next := p.Extends; next != ""; {
		base, at := Find(c.Passes, next)
		if at < 0 {
			return out, fmt.Errorf("there is no pass %q", next)
		}
		if slices.ContainsFunc(chain, func(name string) bool { return strings.EqualFold(name, base.Name) }) {
			return out, fmt.Errorf("refers to itself: %s -> %s", strings.Join(chain, " -> "), base.Name)
		}
		if chain = append(chain, base.Name); len(chain) > maxExtends {
			return out, fmt.Errorf("more than %d passes extend each other", maxExtends)
		}
		out.inherit(base)
		next = base.Extends
	}
	return out, nil
}

// inherit takes from a base what is not set.
func (p *Pass) inherit(base *Pass) {
	for _, text := range []struct {
		to   *string
		from string
	}{{&p.VLAN, base.VLAN}, {&p.Role, base.Role}, {&p.ReportName, base.ReportName}, {&p.Class, base.Class},
		{&p.PrivilegeLevel, base.PrivilegeLevel}, {&p.Commands, base.Commands}} {
		if *text.to == "" {
			*text.to = text.from
		}
	}
	if p.Pool == "" && p.Address == "" { // one stands for the other
		p.Pool, p.Address = base.Pool, base.Address
	}
	if p.MaxSessions == 0 {
		p.AtLimit = base.AtLimit
	}
	for _, number := range []struct {
		to   *int
		from int
	}{{&p.MaxSessions, base.MaxSessions}, {&p.IdleTimeout, base.IdleTimeout}, {&p.RateDown, base.RateDown},
		{&p.RateUp, base.RateUp}} {
		if *number.to == 0 {
			*number.to = number.from
		}
	}
	if p.SessionTimeout == 0 { // what happens then goes with the time
		p.SessionTimeout = base.SessionTimeout
		if p.AtTimeout == "" {
			p.AtTimeout = base.AtTimeout
		}
	}
	if len(p.AccessRules) == 0 {
		p.AccessRules = slices.Clone(base.AccessRules)
	}
	var kept []Attribute
	for _, a := range base.Attributes {
		if !slices.ContainsFunc(p.Attributes, func(own Attribute) bool { return strings.EqualFold(own.Name, a.Name) }) {
			kept = append(kept, a)
		}
	}
	p.Attributes = append(kept, p.Attributes...)
	var arguments []Argument
	for _, a := range base.Arguments {
		if !slices.ContainsFunc(p.Arguments, func(own Argument) bool {
			return own.Service == a.Service && own.Name == a.Name
		}) {
			arguments = append(arguments, a)
		}
	}
	p.Arguments = append(arguments, p.Arguments...)
}

func (c *Config) checkPasses(k *checker) {
	carried := map[Meaning]bool{}
	for i := range c.Vendors {
		for _, a := range c.Vendors[i].Attributes {
			carried[a.Means] = true
		}
	}
	for i := range c.Passes {
		p := c.Passes[i]
		k.on("pass", p.Name, p.ID)
		whole, err := c.Resolve(p)
		if err != nil {
			k.fail("extends", Malformed, "Choose another pass to extend, or none.", "%s", err)
		} else {
			c.checkPassPool(k, &whole)
			c.checkGear(k, &whole)
		}
		if err := CheckVLAN(p.VLAN); err != nil {
			k.fail("vlan", Malformed, "Use a number from 1 to 4094, or the name of a VLAN on the device.", "%s", err)
		}
		if p.SessionTimeout < 0 || p.SessionTimeout > 30*86400 {
			k.fail("sessionTimeout", OutOfRange, "Use 0 (none) to 2592000 seconds (30 days).",
				"%d seconds is out of range", p.SessionTimeout)
		} else if p.SessionTimeout > 0 && p.SessionTimeout < 60 {
			k.warn("sessionTimeout", ShortSession, "The unit is seconds.", "everybody signs in again every %d seconds",
				p.SessionTimeout)
		}
		if p.MaxSessions < 0 || p.MaxSessions > 1000 {
			k.fail("maxSessions", OutOfRange, "Use 1 to 1000, or 0 for any number.", "%d sessions are out of range",
				p.MaxSessions)
		}
		if p.AtLimit != RefuseMore && p.AtLimit != EndOldest {
			k.fail("atLimit", Unknown, "Use refuse or end-oldest.", "%q is not what can happen at the limit", p.AtLimit)
		}
		if p.IdleTimeout < 0 || p.IdleTimeout > 30*86400 {
			k.fail("idleTimeout", OutOfRange, "Use 0 (none) to 2592000 seconds (30 days).",
				"%d seconds is out of range", p.IdleTimeout)
		}
		if p.AtTimeout != EndSession && p.AtTimeout != SignInAgain {
			k.fail("atTimeout", Unknown, "Use sign-in-again, or leave it empty to end the session.",
				"%q is not an action at the time-out", p.AtTimeout)
		} else if resolved, err := c.Resolve(p); err == nil && p.AtTimeout == SignInAgain &&
			resolved.SessionTimeout == 0 {
			k.fail("atTimeout", NotFound, "Set the session time-out.", "signing in again needs a session time-out")
		}
		if len(p.AccessRules) > maxList {
			k.fail("accessRules", TooMany, "Name a list on the device by the role instead.",
				"%d rules, at most %d are allowed", len(p.AccessRules), maxList)
		}
		for j, rule := range p.AccessRules {
			if err := CheckAccessRule(rule); err != nil {
				k.fail(fmt.Sprintf("accessRules[%d]", j), Malformed, "Write for instance: permit in ip from any to "+
					"192.0.2.0/24.", "%s", err)
			}
		}
		for _, rate := range []struct {
			field string
			kbit  int
			means Meaning
		}{{"rateDown", p.RateDown, RateDown}, {"rateUp", p.RateUp, RateUp}} {
			if rate.kbit < 0 || rate.kbit > 400_000_000 {
				k.fail(rate.field, OutOfRange, "Use 0 (no limit) to 400000000 kbit/s.", "%d kbit/s is out of range",
					rate.kbit)
			} else if rate.kbit > 0 && !carried[rate.means] {
				k.warn(rate.field, Uncarried, "Add the attribute of your devices under Vendors, and set its "+
					"meaning there.", "no vendor attribute is set up for this, and there is no standard one")
			}
		}
		if len(p.Role) > 253 {
			k.fail("role", TooMany, "Shorten it.", "a role has at most 253 octets")
		}
		if len(p.Attributes) > 60 {
			k.fail("attributes", TooMany, "Remove some.", "more than 60 attributes do not fit in one reply")
		}
	}
}

// CheckAccessRule tells what is wrong with the form of an IPFilterRule (RFC 6733 section 4.3.1). Addresses and ports
// are left to the device, which knows names for them.
func CheckAccessRule(rule string) error {
	words := strings.Fields(rule)
	if len(words) < 7 {
		return fmt.Errorf("%q has %d words; action, direction, protocol, from, source, to and destination are needed",
			rule, len(words))
	}
	if words[0] != "permit" && words[0] != "deny" {
		return fmt.Errorf("%q does not begin with permit or deny", rule)
	}
	if words[1] != "in" && words[1] != "out" {
		return fmt.Errorf("the direction in %q is not in or out", rule)
	}
	if words[3] != "from" || !slices.Contains(words[5:], "to") {
		return fmt.Errorf("%q lacks from or to", rule)
	}
	if strings.ContainsRune(rule, 0) {
		return fmt.Errorf("the rule holds a zero octet")
	}
	return nil
}
