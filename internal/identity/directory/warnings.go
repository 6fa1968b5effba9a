package directory

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

// MemberTester is our membership of the domain, as the test asks it.
type MemberTester interface {
	// Test makes sure of the secure channel, and tells with which controller.
	Test(ctx context.Context) (string, error)
	// Probe has a controller check a right response of MS-CHAP.
	Probe(ctx context.Context) error
}

const (
	// expiresSoon is how long before its end the password of the service account asks for attention.
	expiresSoon = 21 * 24 * time.Hour
	clockWarns  = time.Minute
	clockFails  = 5 * time.Minute
)

// warnings looks for what works today and will not one day, or works better than it should.
func (t *tester) warnings(ctx context.Context, member MemberTester) bool {
	ok := true
	check := func(key, title string, do func(*results.Step) error) {
		if ctx.Err() == nil {
			ok = t.step(key, title, "", do) && ok
		}
	}
	if len(t.cfg.Groups) > 0 {
		check("picked", "Find the picked groups", func(s *results.Step) error { return t.pickedGroups(s) })
	}
	if t.cfg.Kind == config.ActiveDirectory {
		if t.cfg.BindName != "" {
			check("account", "Look at the service account", t.serviceAccount)
		}
		check("controllers", "Count the domain controllers", t.controllers)
		check("dns", "Ask DNS for the domain", func(s *results.Step) error { return t.domainDNS(ctx, s) })
		check("lockout", "Read when the domain locks accounts", func(s *results.Step) error {
			return t.lockoutRule(ctx, s)
		})
	}
	if member != nil {
		check("channel", "Secure channel of our machine account", func(s *results.Step) error {
			host, err := member.Test(ctx)
			if err != nil {
				return &Failure{Detail: err.Error(), Remedy: "Join the domain again, and look whether port 135 and " +
					"that of Netlogon are open to this server."}
			}
			s.Detail = "with " + host
			return nil
		})
		check("probe", "Have a right MS-CHAPv2 answer checked", func(s *results.Step) error {
			if err := member.Probe(ctx); err != nil {
				return &Failure{Detail: err.Error(), Remedy: "A controller that allows NTLMv2 only takes right " +
					"answers of MS-CHAPv2 for wrong passwords, and counts them until it locks the account. Let it " +
					"allow MS-CHAPv2, or use EAP-TLS or TTLS with PAP."}
			}
			s.Detail = "right answers are taken for right"
			return nil
		})
	}
	return ok
}

// clock compares the clock of a server with ours.
func (t *tester) clock(c *ldap.Conn, server string) bool {
	r, err := readRoot(c)
	if err != nil {
		return true // the next step says so
	}
	ahead, known := r.clock(time.Now())
	if !known {
		return true
	}
	return t.step("clock", "Compare clocks", server, func(s *results.Step) error { return compareClocks(s, ahead) })
}

func compareClocks(s *results.Step, ahead time.Duration) error {
	const remedy = "Synchronize both clocks with the same time server."
	s.Detail = fmt.Sprintf("differs by %.1f s", ahead.Seconds())
	if ahead.Abs() > clockFails {
		return &Failure{Detail: s.Detail + "; beyond five minutes domains refuse everything", Remedy: remedy}
	}
	if ahead.Abs() > clockWarns {
		s.State, s.Remedy = results.Warn, remedy
	}
	return nil
}

func (t *tester) pickedGroups(s *results.Step) error {
	found, err := t.byID(t.conn, t.base, t.cfg.Groups)
	if err != nil {
		return err
	}
	var gone, renamed []string
	for _, p := range t.cfg.Groups {
		switch now := found[p.ID].Name; {
		case now == "":
			gone = append(gone, p.Name)
		case now != p.Name:
			renamed = append(renamed, p.Name+" (now "+now+")")
		}
	}
	s.Detail = fmt.Sprintf("%d of %d are there", len(t.cfg.Groups)-len(gone), len(t.cfg.Groups))
	if len(renamed) > 0 {
		s.Detail += "; renamed, and followed: " + short(strings.Join(renamed, ", "))
	}
	if len(gone) > 0 {
		s.State = results.Warn
		s.Detail += "; gone: " + short(strings.Join(gone, ", "))
		s.Remedy = "Nobody is a member of a group that is gone: pick another, and look at the policies that name it."
	}
	return nil
}

// powerful are groups whose members may do more than read (MS-DTYP section 2.4.2.4), by the last part of the
// identifier.
var powerful = map[string]string{"512": "Domain Admins", "516": "Domain Controllers", "518": "Schema Admins",
	"519": "Enterprise Admins", "520": "Group Policy Creator Owners",
	"526": "Key Admins", "527": "Enterprise Key Admins", "544": "Administrators", "548": "Account Operators",
	"549": "Server Operators", "550": "Print Operators", "551": "Backup Operators"}

const neverExpires = 0x10000

// serviceAccount looks at what the service account may do, and how long its password lasts.
func (t *tester) serviceAccount(s *results.Step) error {
	e, err := t.ownEntry()
	if err != nil || e == nil {
		s.State, s.Detail = results.Warn, "its entry was not found, so nothing is known of its rights and its password"
		s.Remedy = "Write the bind name as name@domain, and let the account read its own entry."
		return err
	}
	s.Detail = e.DN
	var strong, remedies []string
	result, err := t.conn.Search(ldap.NewSearchRequest(e.DN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1,
		t.seconds(), false, "(objectClass=*)", []string{"tokenGroups"}, nil))
	if err == nil && len(result.Entries) == 1 {
		for _, raw := range result.Entries[0].GetEqualFoldRawAttributeValues("tokenGroups") {
			sid := formatSID(raw)
			domain := strings.HasPrefix(sid, "S-1-5-21-") || strings.HasPrefix(sid, "S-1-5-32-")
			if name := powerful[sid[strings.LastIndexByte(sid, '-')+1:]]; domain && name != "" {
				strong = append(strong, name)
			}
		}
	}
	if len(strong) > 0 {
		slices.Sort(strong)
		s.State, s.Detail = results.Warn, s.Detail+", a member of "+strings.Join(slices.Compact(strong), ", ")
		remedies = append(remedies, "Reading people and groups needs no such right: use an account that is in Domain "+
			"Users only.")
	}
	if left, expires := passwordEnds(e, time.Now()); expires {
		s.Detail += fmt.Sprintf(", password expires in %d days", int(left.Hours()/24))
		if left < expiresSoon {
			s.State = results.Warn
			remedies = append(remedies, "Change its password here and there before that, or let it never expire: on "+
				"that day everybody is refused.")
		}
	} else {
		s.Detail += ", password does not expire"
	}
	s.Remedy = strings.Join(remedies, " ")
	return nil
}

// passwordEnds tells how long a password still lasts, from what the domain computes.
func passwordEnds(e *ldap.Entry, now time.Time) (time.Duration, bool) {
	control, _ := strconv.Atoi(e.GetEqualFoldAttributeValue("userAccountControl"))
	ends, err := strconv.ParseInt(e.GetEqualFoldAttributeValue("msDS-UserPasswordExpiryTimeComputed"), 10, 64)
	if control&neverExpires != 0 || err != nil || ends <= 0 || ends == 1<<63-1 {
		return 0, false
	}
	return fromFileTime(ends).Sub(now), true
}

// whole is the base of the whole domain, which may be more than the base of searches.
func (t *tester) whole() string {
	if r, err := readRoot(t.conn); err == nil && r.defaultContext() != "" {
		return r.defaultContext()
	}
	return t.base
}

// ownEntry finds the entry of the service account by any form of its name.
func (t *tester) ownEntry() (*ldap.Entry, error) {
	attributes := []string{"userAccountControl", "msDS-UserPasswordExpiryTimeComputed"}
	base, scope, filter := t.whole(), ldap.ScopeWholeSubtree, ""
	name := t.cfg.BindName
	if _, err := ldap.ParseDN(name); err == nil && strings.Contains(name, "=") {
		base, scope, filter = name, ldap.ScopeBaseObject, "(objectClass=*)"
	} else {
		bare, _, _ := strings.Cut(name, "@")
		if _, after, ok := strings.Cut(bare, `\`); ok {
			bare = after
		}
		filter = fmt.Sprintf("(|(userPrincipalName=%s)(sAMAccountName=%s))", ldap.EscapeFilter(name),
			ldap.EscapeFilter(bare))
	}
	result, err := t.conn.Search(ldap.NewSearchRequest(base, scope, ldap.NeverDerefAliases, 2, t.seconds(), false,
		filter, attributes, nil))
	if err != nil || len(result.Entries) != 1 {
		return nil, err
	}
	return result.Entries[0], nil
}

// controllers counts the domain controllers, and warns if only one of several is configured.
func (t *tester) controllers(s *results.Step) error {
	result, err := t.conn.Search(ldap.NewSearchRequest(t.whole(), ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 200,
		t.seconds(), false,
		"(&(objectClass=computer)(userAccountControl:1.2.840.113556.1.4.803:=8192))", []string{"dNSHostName"}, nil))
	if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
		return err
	}
	var names []string
	for _, e := range result.Entries {
		if name := e.GetEqualFoldAttributeValue("dNSHostName"); name != "" {
			names = append(names, strings.ToLower(name))
		}
	}
	slices.Sort(names)
	s.Detail = fmt.Sprintf("%d, %d configured here", len(names), len(t.cfg.Servers))
	if len(names) > 0 {
		s.Detail += ": " + short(strings.Join(names, ", "))
	}
	if len(names) > 1 && len(t.cfg.Servers) == 1 {
		s.State, s.Remedy = results.Warn, "Add a second one to the servers: while the only one is restarted, "+
			"everybody is refused."
	}
	return nil
}

// domainDNS sees whether the DNS server that is asked knows the domain, and names servers of it.
func (t *tester) domainDNS(ctx context.Context, s *results.Step) error {
	domain := domainOf(t.whole())
	limited, cancel := context.WithTimeout(ctx, t.cfg.Timeout())
	defer cancel()
	records, err := t.dialer.Names.Services(limited, "_ldap._tcp.dc._msdcs."+domain)
	if err != nil || len(records) == 0 {
		s.State, s.Detail = results.Warn, "the DNS server that is asked does not know the domain "+domain+
			"; it may be an outside one"
		s.Remedy = "Give the address of a DNS server of the domain, so that its controllers are found by name."
		return nil
	}
	var names, outside []string
	for _, r := range records {
		name := r.Host
		names = append(names, name)
		if addresses, err := t.dialer.Names.Addresses(limited, name); err != nil || !strings.HasSuffix(name,
			"."+strings.ToLower(domain)) && !slices.ContainsFunc(addresses, t.configured) {
			outside = append(outside, name)
		}
	}
	s.Detail = short(strings.Join(names, ", "))
	if len(outside) > 0 {
		s.State, s.Remedy = results.Warn, fmt.Sprintf("%s cannot be found or lies outside %s: look at the entries of "+
			"_ldap._tcp.dc._msdcs.%s, and at which DNS server is asked.", short(strings.Join(outside, ", ")), domain,
			domain)
	}
	return nil
}

// configured reports whether an address is that of a configured server.
func (t *tester) configured(address netip.Addr) bool {
	return slices.ContainsFunc(t.cfg.Servers, func(server string) bool {
		host, _, _ := net.SplitHostPort(server)
		return host == address.String()
	})
}

func (t *tester) lockoutRule(ctx context.Context, s *results.Step) error {
	rule, err := t.Lockout(ctx)
	if err != nil {
		return err
	}
	limits := t.Guard(ctx)
	switch {
	case rule.Threshold == 0:
		s.Detail = "it locks nobody"
	case limits.After == 0:
		s.State, s.Detail = results.Warn, fmt.Sprintf("after %d wrong passwords, and no guard is set here",
			rule.Threshold)
		s.Remedy = "Let the guard go by the domain: a phone with an old password locks its owner out otherwise."
	case limits.After >= rule.Threshold:
		s.State, s.Detail = results.Warn, fmt.Sprintf("after %d wrong passwords; the guard here acts after %d, which "+
			"is too late", rule.Threshold, limits.After)
		s.Remedy = "Let the guard go by the domain, or set a smaller number."
	default:
		s.Detail = fmt.Sprintf("after %d wrong passwords; here they are held back after %d within %d minutes",
			rule.Threshold, limits.After, int(limits.Window.Minutes()))
	}
	return nil
}
