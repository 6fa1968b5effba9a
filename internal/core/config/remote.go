package config

import (
	"crypto/x509"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Remote is another RADIUS server, which lanes forward to: one machine, or a group of several that hold the same.
type Remote struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Servers are its machines, in the order to ask them, or to share requests out by weight.
	Servers  []RemoteServer `json:"servers"`
	Weighted bool           `json:"weighted,omitempty"`
	// Transport is OverUDP, OverTLS or OverDTLS.
	Transport string `json:"transport,omitempty"`
	Secret    Secret `json:"secret,omitempty"`
	// CA is PEM of the authorities that may have issued its certificate, empty for those of the system; ServerName is
	// the name in it, empty for the address. Certificate is one of ours, which proves this server to it.
	CA          string `json:"ca,omitempty"`
	ServerName  string `json:"serverName,omitempty"`
	Certificate string `json:"certificate,omitempty"`
	// TimeoutMillis is how long each of Tries is waited for. Over TLS there is one try.
	TimeoutMillis int `json:"timeoutMillis"`
	Tries         int `json:"tries"`
	// DeadSeconds is how long a machine that did not answer is asked last, ProbeSeconds how often it is asked by
	// Status-Server (RFC 5997) whether it is there, 0 for never.
	DeadSeconds  int `json:"deadSeconds"`
	ProbeSeconds int `json:"probeSeconds"`
	// Unsigned accepts answers without Message-Authenticator, which can be forged.
	Unsigned bool `json:"unsigned,omitempty"`
	// Accounting sends it the accounting of the lanes that forward to it, at AccountingPort over UDP.
	Accounting     bool `json:"accounting,omitempty"`
	AccountingPort int  `json:"accountingPort,omitempty"`
	// Rules change requests on their way to it, and its answers, in order.
	Rules []RemoteRule `json:"rules"`
	// Grants are the attributes of an Access-Accept that are passed on, by name, beside those that the protocol needs;
	// AllGrants passes on everything.
	Grants []string `json:"grants"`
	// Pass overrides the answer: its attributes replace those that the server gives.
	Pass string `json:"pass,omitempty"`
	Note string `json:"note,omitempty"`
}

// RemoteServer is one machine of a remote server.
type RemoteServer struct {
	Address string `json:"address" maxLength:"100" doc:"IP address with a port; 1812, or 2083 over TLS, if none is given" example:"192.0.2.80:1812"`
	Weight  int    `json:"weight,omitempty" required:"false" default:"1" doc:"Its share of the requests where they are shared out by weight; 0 is 1"`
}

func (r RemoteServer) String() string {
	if r.Weight > 1 {
		return r.Address + "*" + strconv.Itoa(r.Weight)
	}
	return r.Address
}

// Transports of a remote server.
const (
	OverUDP  = "udp"
	OverTLS  = "tls"
	OverDTLS = "dtls"
)

// Secured reports whether certificates stand in the place of the shared secret.
func (r *Remote) Secured() bool { return r.Transport == OverTLS || r.Transport == OverDTLS }

// RemoteRule changes one attribute.
type RemoteRule struct {
	On        string `json:"on" enum:"request,answer" doc:"On what is sent to the server, or on what it answers"`
	Do        string `json:"do" enum:"add,drop,rewrite"`
	Attribute string `json:"attribute" maxLength:"200" doc:"Name of the attribute" example:"User-Name"`
	// Match is a regular expression (RE2) that the whole value has to match for drop and rewrite, empty for any.
	Match string `json:"match,omitempty" required:"false" maxLength:"500" doc:"Regular expression (RE2) that the whole value has to match; empty is any"`
	// Value is what is added, or what the value becomes; $1 stands for the first group of Match.
	Value string `json:"value,omitempty" required:"false" maxLength:"500" doc:"What is added, or what the value becomes; $1 is the first group of match"`
}

// What rules do, and on what.
const (
	OnRequest   = "request"
	OnAnswer    = "answer"
	RuleAdd     = "add"
	RuleDrop    = "drop"
	RuleRewrite = "rewrite"
)

func (r RemoteRule) String() string {
	text := r.On + ": " + r.Do + " " + r.Attribute
	if r.Match != "" {
		text += " ~ " + r.Match
	}
	if r.Do != RuleDrop {
		text += " = " + r.Value
	}
	return text
}

// Untouchable are the attributes that rules leave alone: changing them would break the proof of who it is, or of the
// packet.
var Untouchable = []string{"User-Password", "CHAP-Password", "CHAP-Challenge", "EAP-Message", "Message-Authenticator",
	"State", "Proxy-State", "Vendor-Specific"}

// Pattern compiles Match for whole values.
func (r *RemoteRule) Pattern() (*regexp.Regexp, error) {
	if r.Match == "" {
		return regexp.Compile(`^(?s:.*)$`)
	}
	return regexp.Compile("^(?:" + r.Match + ")$")
}

// AllGrants stands for all attributes.
const AllGrants = "*"

func (r *Remote) Ident() string      { return r.ID }
func (r *Remote) Label() string      { return r.Name }
func (r *Remote) Identify(id string) { r.ID = id }

func (r *Remote) normalise() {
	orEmpty(&r.Grants)
	orEmpty(&r.Servers)
	orEmpty(&r.Rules)
	trim(&r.Name, &r.Pass, &r.Note, &r.CA, &r.ServerName, &r.Certificate)
	for i := range r.Grants {
		trim(&r.Grants[i])
	}
	r.Grants = unique(r.Grants)
	port := "1812"
	if r.Transport == OverUDP {
		r.Transport = ""
	}
	if r.Secured() {
		port = "2083"
	}
	for i := range r.Servers {
		s := &r.Servers[i]
		trim(&s.Address)
		if addr, err := netip.ParseAddr(strings.Trim(s.Address, "[]")); err == nil {
			s.Address = net.JoinHostPort(addr.String(), port)
		}
		if s.Weight == 0 {
			s.Weight = 1
		}
	}
	for i := range r.Rules {
		rule := &r.Rules[i]
		trim(&rule.Attribute, &rule.Match)
	}
	if r.TimeoutMillis == 0 {
		r.TimeoutMillis = 2000
	}
	if r.Tries == 0 {
		r.Tries = 2
	}
	if r.DeadSeconds == 0 {
		r.DeadSeconds = 30
	}
	if r.AccountingPort == 0 && r.Accounting && r.Transport == "" {
		r.AccountingPort = 1813
	}
}

func (c *Config) checkRemotes(k *checker) {
	for i := range c.Remotes {
		r := c.Remotes[i]
		k.on("remote", r.Name, r.ID)
		r.checkServers(k)
		r.checkRules(k)
		if r.Secured() {
			c.checkRemoteTLS(k, r)
		} else if !r.Secret.Set() {
			k.fail("secret", Required, "Enter the secret that the remote server has for this server.",
				"no shared secret")
		}
		for _, n := range []struct {
			field      string
			value      int
			from, upTo int
			unit       string
		}{{"timeoutMillis", r.TimeoutMillis, 100, 10_000, " ms"}, {"tries", r.Tries, 1, 5, ""},
			{"deadSeconds", r.DeadSeconds, 1, 3600, " s"}, {"accountingPort", r.AccountingPort, 0, 65535, ""}} {
			if n.value < n.from || n.value > n.upTo {
				k.fail(n.field, OutOfRange, fmt.Sprintf("Use %d to %d%s.", n.from, n.upTo, n.unit),
					"%s is out of range",
					strconv.Itoa(n.value)+n.unit)
			}
		}
		if r.ProbeSeconds != 0 && (r.ProbeSeconds < 5 || r.ProbeSeconds > 3600) {
			k.fail("probeSeconds", OutOfRange, "Use 5 to 3600 s, or 0 for no probing.", "%d s is out of range",
				r.ProbeSeconds)
		}
		c.checkGranted(k, r)
		if r.Unsigned && !r.Secured() {
			k.warn("unsigned", UnsignedAnswers, "Enable Message-Authenticator on the remote server, then disable this.",
				"answers without Message-Authenticator are accepted: anyone on the path can forge them")
		}
	}
}

// checkGranted checks what a remote server may grant.
func (c *Config) checkGranted(k *checker, r *Remote) {
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
}

// maxServers bounds the machines of one remote server.
const maxServers = 16

func (r *Remote) checkServers(k *checker) {
	if len(r.Servers) == 0 {
		k.fail("servers", Required, "Add the address of the remote server.", "no server")
	}
	if len(r.Servers) > maxServers {
		k.fail("servers", TooMany, "Remove some.", "more than %d servers", maxServers)
	}
	seen := map[string]bool{}
	for i, s := range r.Servers {
		if at, err := netip.ParseAddrPort(s.Address); err != nil || at.Port() == 0 {
			k.fail(fmt.Sprintf("servers[%d].address", i), Malformed,
				"Write for instance 192.0.2.80 or 192.0.2.80:1812.",
				"%q is not an address with a port", s.Address)
		}
		if seen[s.Address] {
			k.fail(fmt.Sprintf("servers[%d].address", i), Taken, "Remove one of the two.", "%s stands there twice",
				s.Address)
		}
		seen[s.Address] = true
		if s.Weight < 1 || s.Weight > 1000 {
			k.fail(fmt.Sprintf("servers[%d].weight", i), OutOfRange, "Use 1 to 1000.", "weight %d is out of range",
				s.Weight)
		}
	}
	if r.Transport != "" && !r.Secured() {
		k.fail("transport", Unknown, "Use udp, tls or dtls.", "%q is not a transport", r.Transport)
	}
}

// checkRemoteTLS checks how a remote server is reached over TLS.
func (c *Config) checkRemoteTLS(k *checker, r *Remote) {
	if r.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(r.CA)) {
		k.fail("ca", Malformed, "Paste the certificate of its authority, from BEGIN to END.", "it holds no certificate")
	}
	switch own, at := Find(c.Certificates, r.Certificate); {
	case r.Certificate == "":
		k.fail("certificate", Required, "Choose the certificate by which this server proves itself to it.",
			"no certificate of ours is chosen, and TLS is mutual here")
	case at < 0:
		k.fail("certificate", NotFound, "Choose one of the server certificates.", "there is no certificate %q",
			r.Certificate)
	case own.Chain == "":
		k.fail("certificate", Conflict, "Have it signed, or choose another.", "certificate %q waits to be signed",
			r.Certificate)
	default:
		if leaf := first(own.Chain); leaf != nil && !provesClients(leaf) {
			k.warn("certificate", WrongPurpose, "Make it anew here, or have one issued for both purposes.",
				"certificate %q is for servers only, so the remote server may refuse it", r.Certificate)
		}
	}
}

// maxRules bounds the rules of a remote server.
const maxRules = 50

func (r *Remote) checkRules(k *checker) {
	if len(r.Rules) > maxRules {
		k.fail("rules", TooMany, "Remove some.", "more than %d rules", maxRules)
	}
	for i := range r.Rules {
		rule, field := &r.Rules[i], fmt.Sprintf("rules[%d]", i)
		if rule.On != OnRequest && rule.On != OnAnswer {
			k.fail(field+".on", Unknown, "Use request or answer.", "%q is not what rules work on", rule.On)
		}
		if !slices.Contains([]string{RuleAdd, RuleDrop, RuleRewrite}, rule.Do) {
			k.fail(field+".do", Unknown, "Use add, drop or rewrite.", "%q is not what rules do", rule.Do)
		}
		if slices.ContainsFunc(Untouchable, func(name string) bool { return strings.EqualFold(name, rule.Attribute) }) {
			k.fail(field+".attribute", Conflict, "Choose another attribute.",
				"%s belongs to the proof of the request, and cannot be changed", rule.Attribute)
		}
		if _, err := rule.Pattern(); err != nil {
			k.fail(field+".match", Malformed, "Correct the regular expression.", "%s", err)
		}
		if rule.Do == RuleAdd && rule.Match != "" {
			k.fail(field+".match", Conflict, "Leave it empty.", "what is added depends on no value")
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
