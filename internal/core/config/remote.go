package config

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Remote is another RADIUS server, which lanes forward to.
type Remote struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Address is host:port of an IP address; the port is 1812 if none is given.
	Address string `json:"address"`
	Secret  Secret `json:"secret"`
	// TimeoutMillis is how long each of Tries is waited for.
	TimeoutMillis int `json:"timeoutMillis"`
	Tries         int `json:"tries"`
	// Unsigned accepts answers without Message-Authenticator, which can be forged.
	Unsigned bool `json:"unsigned,omitempty"`
	// Grants are the attributes of an Access-Accept that are passed on, by name, beside those that the protocol needs;
	// AllGrants passes on everything.
	Grants []string `json:"grants"`
	// Pass overrides the answer: its attributes replace those that the server gives.
	Pass string `json:"pass,omitempty"`
	Note string `json:"note,omitempty"`
}

// AllGrants stands for all attributes.
const AllGrants = "*"

func (r *Remote) Ident() string      { return r.ID }
func (r *Remote) Label() string      { return r.Name }
func (r *Remote) Identify(id string) { r.ID = id }

func (r *Remote) normalise() {
	if r.Grants == nil { // made when everything was passed on
		r.Grants = []string{AllGrants}
	}
	trim(&r.Name, &r.Address, &r.Pass, &r.Note)
	for i := range r.Grants {
		trim(&r.Grants[i])
	}
	r.Grants = unique(r.Grants)
	if addr, err := netip.ParseAddr(strings.Trim(r.Address, "[]")); err == nil {
		r.Address = net.JoinHostPort(addr.String(), "1812")
	}
	if r.TimeoutMillis == 0 {
		r.TimeoutMillis = 2000
	}
	if r.Tries == 0 {
		r.Tries = 2
	}
}

func (c *Config) checkRemotes(k *checker) {
	for i := range c.Remotes {
		r := c.Remotes[i]
		k.on("remote", r.Name, r.ID)
		if at, err := netip.ParseAddrPort(r.Address); err != nil || at.Port() == 0 {
			k.fail("address", Malformed, "Write for instance 192.0.2.80 or 192.0.2.80:1812.",
				"%q is not an address with a port", r.Address)
		}
		if !r.Secret.Set() {
			k.fail("secret", Required, "Enter the secret that the remote server has for this server.",
				"no shared secret")
		}
		if r.TimeoutMillis < 100 || r.TimeoutMillis > 10_000 {
			k.fail("timeoutMillis", OutOfRange, "Use 100 to 10000 ms.", "%s ms is out of range",
				strconv.Itoa(r.TimeoutMillis))
		}
		if r.Tries < 1 || r.Tries > 5 {
			k.fail("tries", OutOfRange, "Use 1 to 5.", "%s is out of range", strconv.Itoa(r.Tries))
		}
		if slices.Contains(r.Grants, AllGrants) {
			k.warn("grants", GrantsEverything,
				"List the attributes that it may grant, or set a pass that overrides its answers.",
				"everything that this server grants is passed on: its administrator chooses VLANs, roles and "+
					"privileges here")
		}
		if len(r.Grants) > maxList {
			k.fail("grants", TooMany, "Remove some.", "more than %d attributes", maxList)
		}
		if p, at := Find(c.Passes, r.Pass); r.Pass != "" && at < 0 {
			k.fail("pass", NotFound, "Choose one of the passes.", "there is no pass %q", r.Pass)
		} else if r.Pass != "" && p.Pool != "" {
			k.fail("pass", Conflict, "Choose another pass.", "pass %q assigns addresses from a pool, which is only "+
				"possible for decisions made here", r.Pass)
		}
		if r.Unsigned {
			k.warn("unsigned", UnsignedAnswers, "Enable Message-Authenticator on the remote server, then disable this.",
				"answers without Message-Authenticator are accepted: anyone on the path can forge them")
		}
	}
}

// checkForward checks the remote servers that a lane forwards to.
func (c *Config) checkForward(k *checker, l *Lane) {
	for j, name := range l.Forward {
		if _, at := Find(c.Remotes, name); at < 0 {
			k.fail(fmt.Sprintf("forward[%d]", j), NotFound, "Choose one of the remote servers.",
				"there is no remote server %q", name)
		}
	}
	if len(l.Forward) > 0 && slices.ContainsFunc(l.Policies, func(p *Policy) bool { return p.Enabled }) {
		k.warn("policies", Ignored, "Remove them, or decide here.", "the lane forwards, so its policies are not used")
	}
}
