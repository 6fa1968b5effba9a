package directory

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
)

// countLimit ends counting in very large directories.
const countLimit = 20_000

type tester struct {
	*Directory
	report func(results.Step)
	conn   *ldap.Conn
	base   string
}

// Test tries every link of a directory, step by step, and reports each when it begins and when it ends. It uses no
// pool and changes nothing. It stops at the first failure of the first server that must work. look is a person to look
// up, and member our membership of the domain; both may be missing.
func Test(ctx context.Context, cfg config.Directory, password, look string, member MemberTester,
	report func(results.Step)) bool {
	d, err := Open(cfg, password)
	if err != nil {
		report(results.Step{Key: "tls", Title: "Read the trusted authority", State: results.Fail, Detail: err.Error(),
			Remedy: "Paste the certificate with its BEGIN and END lines."})
		return false
	}
	t := &tester{Directory: d, report: report}
	for _, server := range cfg.Servers {
		c := t.server(ctx, server)
		if c == nil {
			continue
		}
		if t.conn == nil {
			t.conn = c
			defer c.Close()
		} else {
			c.Close()
		}
	}
	if t.conn == nil || ctx.Err() != nil {
		return false
	}
	defer t.Close()
	return t.contents(ctx) && t.warnings(ctx, member) && (look == "" || ctx.Err() == nil && t.look(ctx, look))
}

// step runs one step and reports it. do returns what to say.
func (t *tester) step(key, title, server string, do func(*results.Step) error) bool {
	return runStep(t.report, t.cfg.TLS, results.Step{Key: key, Title: title, Server: server}, do)
}

// runStep reports that a step begins, does it, and reports how it went.
func runStep(report func(results.Step), mode config.TLSMode, s results.Step, do func(*results.Step) error) bool {
	s.State = results.Running
	report(s)
	begun := time.Now()
	s.State = results.Pass
	err := do(&s)
	s.Micros = time.Since(begun).Microseconds()
	if err != nil {
		s.State = results.Fail
		s.Detail, s.Remedy = explain(err, mode, s.Server)
		if s.Server == "" {
			s.Detail = strings.TrimPrefix(s.Detail, ": ")
		}
	}
	report(s)
	return s.State != results.Fail
}

// resolve finds the addresses of a host, and says which DNS servers do not answer: as long as another does, nobody
// would notice.
func (t *tester) resolve(ctx context.Context, host string, s *results.Step) error {
	names := t.dialer.Names
	addrs, err := names.Addresses(ctx, host)
	if err != nil {
		return err
	}
	var all, mute []string
	for _, addr := range addrs {
		all = append(all, addr.String())
	}
	s.Detail = strings.Join(all, ", ")
	if _, err := netip.ParseAddr(host); err == nil {
		return nil
	}
	for _, state := range names.Probe(ctx, host) {
		if state.Err != nil {
			mute = append(mute, state.Server)
		}
	}
	if len(mute) > 0 {
		s.State = results.Warn
		s.Detail += "; no answer from the DNS server " + strings.Join(mute, ", ")
		s.Remedy = "Repair it or take it out of the list: while it is asked first, a lookup takes longer, and " +
			"nothing is " +
			"left if the others fail too."
	}
	return nil
}

// server tests one server up to a bound connection; nil if any step failed.
func (t *tester) server(ctx context.Context, server string) *ldap.Conn {
	var c *ldap.Conn
	host, _, _ := net.SplitHostPort(server)
	ok := t.step("resolve", "Find the address", server, func(s *results.Step) error {
		limited, cancel := context.WithTimeout(ctx, t.cfg.Timeout())
		defer cancel()
		return t.resolve(limited, host, s)
	}) && t.step("connect", "Connect", server, func(s *results.Step) error {
		raw, err := t.dialer.DialContext(ctx, "tcp", server)
		if err == nil {
			s.Detail = "from " + raw.LocalAddr().String() + " to " + raw.RemoteAddr().String()
			raw.Close()
		}
		return err
	}) && t.step("tls", "Protect the connection", server, func(s *results.Step) (err error) {
		if c, err = t.dial(ctx, server); err != nil {
			return err
		}
		state, encrypted := c.TLSConnectionState()
		if !encrypted {
			s.State, s.Detail, s.Remedy = results.Warn, "not encrypted: passwords cross the network in clear",
				"Use ldaps or starttls."
			return nil
		}
		cert := state.PeerCertificates[0]
		left := time.Until(cert.NotAfter)
		s.Detail = fmt.Sprintf("%s, certificate of %s until %s", tls.VersionName(state.Version),
			subject(cert.Subject.CommonName, cert.DNSNames), cert.NotAfter.Format("2006-01-02"))
		if left < 45*24*time.Hour {
			s.State, s.Remedy = results.Warn,
				fmt.Sprintf("The certificate ends in %d days; renew it on the directory server.", int(left.Hours()/24))
		}
		return nil
	}) && t.step("bind", "Sign in with the service account", server, func(s *results.Step) error {
		s.Detail = "as " + t.cfg.BindName
		if t.cfg.BindName == "" {
			s.State, s.Detail, s.Remedy = results.Warn, "anonymous", "Give a service account that may read people "+
				"and groups; most directories refuse anonymous searches."
		}
		return t.bind(c)
	}) && t.clock(c, server)
	if !ok && c != nil {
		c.Close()
		return nil
	}
	return c
}

func subject(cn string, names []string) string {
	if len(names) > 0 {
		return strings.Join(names, ", ")
	}
	return cn
}

// contents tests what can be found over a bound connection.
func (t *tester) contents(ctx context.Context) bool {
	return t.step("base", "Find the base", "", func(s *results.Step) error {
		r, err := readRoot(t.conn)
		if err == nil && r.activeDirectory() != (t.cfg.Kind == config.ActiveDirectory) {
			s.State = results.Warn
			s.Remedy = map[bool]string{true: "The server says that it is of the Active Directory kind; choose " +
				"that kind.", false: "The server does not say that it is of the Active Directory kind; generic may " +
				"fit better."}[r.activeDirectory()]
		}
		if t.base, err = t.baseOn(t.conn); err != nil {
			return err
		}
		if _, err = t.conn.Search(ldap.NewSearchRequest(t.base, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1,
			t.seconds(), false, "(objectClass=*)", []string{"1.1"}, nil)); err != nil {
			return baseFailure(err, t.base, r)
		}
		s.Detail = t.base
		if t.forest() {
			s.Detail = "all domains of the forest"
		} else if t.cfg.Base == "" {
			s.Detail += " (named by the server)"
		}
		return nil
	}) && t.count("people", "Count people", func() string { return t.base }, t.peopleFilter()) &&
		t.count("groups", "Count groups", func() string { return t.groupBase(t.base) }, t.groupsFilter(""))
}

// look looks a person up.
func (t *tester) look(ctx context.Context, look string) bool {
	return t.step("find", "Look up "+look, "", func(s *results.Step) error {
		person, code, detail := t.Find(ctx, look)
		if code != reason.OK {
			if detail == "" {
				detail, _ = reason.Explain(code, map[string]string{"name": look, "stores": t.cfg.Name,
					"store": t.cfg.Name})
			}
			return &Failure{Detail: detail, Remedy: "Check the spelling, and that the base contains this person."}
		}
		s.Person = person
		s.Detail = fmt.Sprintf("%s, %d groups: %s", person.Label(), len(person.Groups),
			short(strings.Join(person.Groups, ", ")))
		if person.State != reason.OK {
			s.State = results.Warn
			s.Remedy, _ = reason.Explain(person.State, map[string]string{"person": person.Label(), "store": t.cfg.Name})
		}
		return nil
	})
}

func (t *tester) count(key, title string, base func() string, filter string) bool {
	return t.step(key, title, "", func(s *results.Step) error {
		n, more, err := countEntries(t.conn, base(), filter)
		if err != nil {
			return err
		}
		s.Detail = fmt.Sprint(n)
		if more {
			s.Detail = fmt.Sprintf("more than %d", n)
		}
		if n == 0 {
			s.State, s.Remedy = results.Warn, "Nothing found below "+base()+
				". Check the base, the kind of directory, and what the service account may read."
		}
		return nil
	})
}

// countEntries counts page by page (RFC 2696) and stops at countLimit.
func countEntries(c *ldap.Conn, base, filter string) (n int, more bool, err error) {
	paging := ldap.NewControlPaging(1000)
	for {
		result, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0,
			false, filter, []string{"1.1"}, []ldap.Control{paging}))
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return n, false, err
		}
		n += len(result.Entries)
		if err != nil || n >= countLimit {
			return n, true, nil
		}
		next, ok := ldap.FindControl(result.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			return n, false, nil
		}
		paging.SetCookie(next.Cookie)
	}
}

func baseFailure(err error, base string, r root) error {
	f := &Failure{Detail: message(err), Remedy: "Ask the administrator of the directory."}
	offered := ""
	if r.entry != nil {
		offered = strings.Join(r.contexts(), "; ")
	}
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject), ldap.IsErrorWithCode(err, ldap.LDAPResultReferral):
		f.Detail = fmt.Sprintf("the base %q does not exist on this server", base)
		f.Remedy = "Leave the base empty to use the server's own."
		var e *ldap.Error
		if errors.As(err, &e) && e.MatchedDN != "" {
			f.Detail += fmt.Sprintf("; it knows %q", e.MatchedDN)
		}
		if offered != "" {
			f.Remedy = "Use one of: " + offered + "; or leave it empty."
		}
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidDNSyntax):
		f.Detail, f.Remedy = fmt.Sprintf("%q is not a DN", base), "Write for instance dc=lanternferries,dc=example."
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights):
		f.Detail, f.Remedy = fmt.Sprintf("the service account may not read %q", base),
			"Give it the right to read people and groups."
	case ldap.IsErrorWithCode(err, ldap.LDAPResultOperationsError):
		f.Detail, f.Remedy = "the server wants a bind before any search", "Give a bind name and password."
	}
	return f
}
