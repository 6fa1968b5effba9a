package config

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"tollgate.example/key/internal/core/presence"
)

// Source reports who is where. Sessions and operators report without one; a source of such a way changes how far they
// count.
type Source struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Enabled bool   `json:"enabled"`
	// Way is how it reports: one of SourceWays.
	Way string `json:"way"`
	// From are the prefixes that it may send from; Secret is the token that it shows over HTTPS.
	From   []string `json:"from"`
	Secret Secret   `json:"secret,omitempty"`
	// Trust is 1 for what counts most, up to 9. Minutes is how long a report holds without another one.
	Trust   int `json:"trust"`
	Minutes int `json:"minutes"`
	// Shared tells that several people may be at one address, as it reports them.
	Shared bool `json:"shared,omitempty"`
	// Readers read lines of syslog, the first that fits.
	Readers []SourceReader `json:"readers"`
	Note    string         `json:"note,omitempty"`
}

// SourceReader reads lines of one form.
type SourceReader struct {
	Pattern string `json:"pattern" maxLength:"500" doc:"The line as it is written, with {who}, {address}, {mac}, {host}, {ports} and {} in the place of what changes" example:"session opened for {who} from {address} port {}"`
	Means   string `json:"means" enum:"signed-in,still,signed-out,leased,released" doc:"What it reports"`
}

// Ways of a source.
const (
	SourceSessions = "sessions"
	// SourceAccounting is what clients say of sessions that no attempt of ours admitted.
	SourceAccounting = "accounting"
	SourceAttempts   = "attempts"
	SourceOperators  = "operators"
	// SourcePortal is who signs in on the pages for people. It counts only where somebody has switched it on: an
	// address may be that of a proxy, or of many behind one.
	SourcePortal  = "portal"
	SourceReports = "reports"
	SourceHosts   = "hosts"
	SourceLogons  = "logons"
	SourceDHCP    = "dhcp"
	SourceSyslog  = "syslog"
)

// SourceWays are all ways, with the trust and the minutes of those that do not say.
var SourceWays = []SourceWay{
	{SourceOperators, 1, 480},
	{SourceSessions, 2, 120},
	{SourceHosts, 3, 5},
	{SourceReports, 3, 60},
	{SourceAttempts, 4, 480},
	{SourcePortal, 4, 60},
	{SourceLogons, 5, 480},
	{SourceSyslog, 5, 120},
	{SourceDHCP, 5, 480},
	{SourceAccounting, 6, 120},
}

// SourceWay is a way to report, and how far it counts by itself.
type SourceWay struct {
	Name           string
	Trust, Minutes int
}

// FindWay finds a way by name, nil if there is none.
func FindWay(name string) *SourceWay {
	at := slices.IndexFunc(SourceWays, func(w SourceWay) bool { return w.Name == name })
	if at < 0 {
		return nil
	}
	return &SourceWays[at]
}

// maxSourceMinutes is how long a report may hold: what is older is not read again after a restart.
const maxSourceMinutes = 24 * 60

func (s *Source) Ident() string      { return s.ID }
func (s *Source) Label() string      { return s.Name }
func (s *Source) Identify(id string) { s.ID = id }

// SecretPlace is that of the token of a source.
func (s *Source) SecretPlace() Place { return Place{"source", s.ID} }

func (s *Source) normalise() {
	orEmpty(&s.From)
	orEmpty(&s.Readers)
	trim(&s.Name, &s.Note)
	s.From = prefixes(s.From)
	for i := range s.Readers {
		trim(&s.Readers[i].Pattern)
	}
	if way := FindWay(s.Way); way != nil {
		if s.Trust == 0 {
			s.Trust = way.Trust
		}
		if s.Minutes == 0 {
			s.Minutes = way.Minutes
		}
	}
	if s.Way != SourceSyslog {
		s.Readers = []SourceReader{}
	}
}

// prefixes writes prefixes in their one form; what is none stays for the check.
func prefixes(list []string) []string {
	out := make([]string, 0, len(list))
	for _, text := range list {
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		if p, err := ParsePrefix(text); err == nil {
			text = p.String()
		}
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return out
}

// Within tells that an address lies in one of some prefixes.
func Within(list []string, a netip.Addr) bool {
	return slices.ContainsFunc(list, func(text string) bool {
		p, err := ParsePrefix(text)
		return err == nil && p.Contains(a)
	})
}

func (c *Config) checkSources(k *checker) {
	for _, s := range c.Sources {
		k.on("source", s.Name, s.ID)
		way := FindWay(s.Way)
		if way == nil {
			names := make([]string, len(SourceWays))
			for i, w := range SourceWays {
				names[i] = w.Name
			}
			k.fail("way", Unknown, "Use "+strings.Join(names, ", ")+".", "%q is not a way to report", s.Way)
			continue
		}
		checkPrefixes(k, "from", s.From)
		if s.Trust < 1 || s.Trust > 9 {
			k.fail(
				"trust",
				OutOfRange,
				"Use 1 for what counts most, up to 9.",
				"a trust of %d does not exist",
				s.Trust,
			)
		}
		if s.Minutes < 1 || s.Minutes > maxSourceMinutes {
			k.fail("minutes", OutOfRange, "Use 1 to 1440.", "%d minutes are out of range", s.Minutes)
		}
		switch s.Way {
		case SourceDHCP, SourceSyslog:
			if len(s.From) == 0 {
				k.fail(
					"from",
					Required,
					"Name the addresses of its servers or relays: whoever else sends could put "+
						"anybody anywhere.",
					"it does not say who may send",
				)
			}
		case SourceReports, SourceHosts, SourceLogons:
			if !s.Secret.Set() {
				k.fail("secret", Required, "Have a token made.", "it has no token to report with")
			}
		}
		if s.Way == SourceSyslog {
			s.checkReaders(k)
		}
	}
}

func (s *Source) checkReaders(k *checker) {
	if len(s.Readers) == 0 {
		k.fail("readers", Required, "Paste a line, and put {who} and {address} in the place of what changes.",
			"no form of line is read")
	}
	if len(s.Readers) > maxList {
		k.fail("readers", TooMany, "Join them.", "%d forms, at most %d are allowed", len(s.Readers), maxList)
		return
	}
	for i, r := range s.Readers {
		if _, err := presence.CompileReader(r.Pattern, presence.Kind(r.Means)); err != nil {
			k.fail(fmt.Sprintf("readers[%d].pattern", i), Malformed,
				"Write the line with {who}, {address}, {mac}, {host}, {ports} and {} in the place of what changes.",
				"%s", err)
		}
	}
}

func checkPrefixes(k *checker, field string, list []string) {
	if len(list) > maxList {
		k.fail(field, TooMany, "Join them.", "%d prefixes, at most %d are allowed", len(list), maxList)
		return
	}
	for i, text := range list {
		if _, err := ParsePrefix(text); err != nil {
			k.fail(fmt.Sprintf("%s[%d]", field, i), Malformed, "Write for instance 192.0.2.0/24 or 2001:db8::/48.",
				"%s", err)
		}
	}
}

// Scope says which networks, devices and names are people's, and which never are.
type Scope struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// LeaveOut drops what fits; else its networks are watched. Of all scopes the longest prefix decides.
	LeaveOut bool     `json:"leaveOut"`
	Networks []string `json:"networks"`
	// Accounts and Hosts are names with * for any characters, MACs beginnings of addresses of devices: only for what is
	// left out.
	Accounts []string `json:"accounts"`
	Hosts    []string `json:"hosts"`
	MACs     []string `json:"macs"`
	Note     string   `json:"note,omitempty"`
}

func (s *Scope) Ident() string      { return s.ID }
func (s *Scope) Label() string      { return s.Name }
func (s *Scope) Identify(id string) { s.ID = id }

func (s *Scope) normalise() {
	trim(&s.Name, &s.Note)
	s.Networks = prefixes(s.Networks)
	for _, list := range []*[]string{&s.Accounts, &s.Hosts, &s.MACs} {
		for i, text := range *list {
			(*list)[i] = strings.ToLower(strings.TrimSpace(text))
		}
		*list = unique(*list)
	}
	for i, text := range s.MACs {
		s.MACs[i] = strings.NewReplacer(":", "-", ".", "-").Replace(text)
	}
}

func (c *Config) checkScopes(k *checker) {
	taken := map[string]string{}
	for _, s := range c.Scopes {
		k.on("scope", s.Name, s.ID)
		checkPrefixes(k, "networks", s.Networks)
		if len(s.Networks)+len(s.Accounts)+len(s.Hosts)+len(s.MACs) == 0 {
			k.fail("networks", Required, "Add a prefix, or names or devices to leave out.", "it says nothing")
		}
		if !s.LeaveOut && len(s.Accounts)+len(s.Hosts)+len(s.MACs) > 0 {
			k.fail("leaveOut", Conflict, "Make another scope of them that leaves out.",
				"names and devices can be left out, and not watched")
		}
		for i, text := range s.Networks {
			if other := taken[text]; other != "" {
				k.fail(
					fmt.Sprintf("networks[%d]", i),
					Taken,
					"Keep it in one of them.",
					"%s stands in scope %q as well",
					text,
					other,
				)
			}
			taken[text] = s.Name
		}
		for field, list := range map[string][]string{"accounts": s.Accounts, "hosts": s.Hosts} {
			for i, text := range list {
				if strings.Trim(text, "*") == "" {
					k.fail(fmt.Sprintf("%s[%d]", field, i), Malformed, "Write more than *, such as svc-*.",
						"%q would leave out everybody", text)
				}
			}
		}
		for i, text := range s.MACs {
			if !macStart(text) {
				k.fail(
					fmt.Sprintf("macs[%d]", i),
					Malformed,
					"Write the beginning of an address, such as 02-00-5e.",
					"%q is not the beginning of a MAC address",
					text,
				)
			}
		}
	}
}

// macStart tells that a text is one to six pairs of hexadecimal digits with hyphens between.
func macStart(text string) bool {
	parts := strings.Split(text, "-")
	return len(parts) <= 6 && !slices.ContainsFunc(parts, func(p string) bool {
		return len(p) != 2 || strings.Trim(p, "0123456789abcdef") != ""
	})
}

// Subscriber is a firewall or program that receives presence.
type Subscriber struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Enabled bool   `json:"enabled"`
	// Secret is the token that it shows; From are the prefixes that it may come from, none for any.
	Secret Secret   `json:"secret,omitempty"`
	From   []string `json:"from"`
	// Networks and Groups are what it is told of, none for everything.
	Networks []string `json:"networks"`
	Groups   []string `json:"groups"`
	// To is host:port of one that is told as RADIUS accounting, with a shared secret; empty for one that asks.
	To         string `json:"to,omitempty"`
	PushSecret Secret `json:"pushSecret,omitempty"`
	Note       string `json:"note,omitempty"`
}

func (s *Subscriber) Ident() string      { return s.ID }
func (s *Subscriber) Label() string      { return s.Name }
func (s *Subscriber) Identify(id string) { s.ID = id }

// SecretPlace is that of the token of a subscriber.
func (s *Subscriber) SecretPlace() Place { return Place{"subscriber", s.ID} }

// PushPlace is that of the shared secret by which a subscriber is told as RADIUS accounting.
func (s *Subscriber) PushPlace() Place { return Place{"subscriber-radius", s.ID} }

func (s *Subscriber) normalise() {
	trim(&s.Name, &s.Note, &s.To)
	if a, err := netip.ParseAddr(strings.Trim(s.To, "[]")); err == nil {
		s.To = netip.AddrPortFrom(a, 1813).String()
	}
	s.From, s.Networks = prefixes(s.From), prefixes(s.Networks)
	for i := range s.Groups {
		trim(&s.Groups[i])
	}
	s.Groups = unique(s.Groups)
}

func (c *Config) checkSubscribers(k *checker) {
	for _, s := range c.Subscribers {
		k.on("subscriber", s.Name, s.ID)
		checkPrefixes(k, "from", s.From)
		checkPrefixes(k, "networks", s.Networks)
		if !s.Secret.Set() {
			k.fail("secret", Required, "Have a token made.", "it has no token")
		}
		if s.To != "" {
			if at, err := netip.ParseAddrPort(s.To); err != nil || at.Port() == 0 {
				k.fail(
					"to",
					Malformed,
					"Write for instance 192.0.2.1:1813.",
					"%q is not an address with a port",
					s.To,
				)
			}
			if !s.PushSecret.Set() {
				k.fail("pushSecret", Required, "Enter the secret that is set on it.",
					"there is no shared secret for RADIUS accounting")
			}
		}
		if len(s.Groups) > maxList {
			k.fail("groups", TooMany, "Name fewer.", "%d groups, at most %d are allowed", len(s.Groups), maxList)
		}
	}
}
