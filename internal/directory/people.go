package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
)

const (
	// maxGroups bounds the groups kept of one person.
	maxGroups = 2000
	// maxNesting bounds how deep groups inside groups are followed where the server cannot do it itself.
	maxNesting = 10
)

// personFilter is the filter for one person by name. Values are escaped (RFC 4515 section 3).
func (d *Directory) personFilter(name string) string {
	if host, ok := strings.CutPrefix(name, computerPrefix); ok {
		return d.computerFilter(host)
	}
	v := ldap.EscapeFilter(name)
	if d.cfg.Kind == config.ActiveDirectory {
		return fmt.Sprintf("(&(objectClass=user)(|(sAMAccountName=%s)(userPrincipalName=%s)))", v, v)
	}
	return fmt.Sprintf("(&(|(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account))(|(uid=%s)(mail=%s)))", v, v)
}

// computerPrefix begins the name of a computer, host/pc17 or host/pc17.lanternferries.example.
const computerPrefix = "host/"

func (d *Directory) computerFilter(host string) string {
	short, _, _ := strings.Cut(host, ".")
	full, short := ldap.EscapeFilter(host), ldap.EscapeFilter(short)
	if d.cfg.Kind == config.ActiveDirectory {
		return fmt.Sprintf("(&(objectClass=computer)(|(sAMAccountName=%s$)(dNSHostName=%s)))", short, full)
	}
	return fmt.Sprintf("(&(|(objectClass=device)(objectClass=ipHost))(|(cn=%s)(cn=%s)))", short, full)
}

// peopleFilter fits everybody.
func (d *Directory) peopleFilter() string {
	if d.cfg.Kind == config.ActiveDirectory {
		return "(&(objectClass=user)(!(objectClass=computer)))"
	}
	return "(|(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account))"
}

// groupsFilter fits every group whose name contains the text.
func (d *Directory) groupsFilter(text string) string {
	kind := "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))"
	if d.cfg.Kind == config.ActiveDirectory {
		kind = "(objectClass=group)"
	}
	if text == "" {
		return kind
	}
	return fmt.Sprintf("(&%s(cn=*%s*))", kind, ldap.EscapeFilter(text))
}

// personAttributes are read of everybody, beside the configured ones.
var personAttributes = map[config.DirectoryKind][]string{
	config.ActiveDirectory: {"sAMAccountName", "userPrincipalName", "displayName", "cn", "mail", "userAccountControl",
		"accountExpires", "lockoutTime", "msDS-User-Account-Control-Computed", "primaryGroupID", "objectSid"},
	config.Generic: {"uid", "cn", "displayName", "mail", "gidNumber", "pwdAccountLockedTime", "nsAccountLock", "shadowExpire"},
}

// Find looks one person up with groups. The outcome is OK, PersonUnknown, PersonAmbiguous or one of the directory
// codes, with a detail for people.
func (d *Directory) Find(ctx context.Context, name string) (*facts.Person, reason.Code, string) {
	var person *facts.Person
	outcome := reason.PersonUnknown
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		attributes := slices.Concat(personAttributes[d.cfg.Kind], d.cfg.Attributes)
		result, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, d.seconds(), false, d.personFilter(name), attributes, nil))
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return err
		}
		switch len(result.Entries) {
		case 0:
			outcome = reason.PersonUnknown
		case 1:
			person = d.person(result.Entries[0], time.Now())
			if strings.HasPrefix(name, computerPrefix) {
				person.Kind = facts.Computer
			}
			person.Groups, err = d.groupsOf(c, base, result.Entries[0])
			outcome = reason.OK
		default:
			outcome = reason.PersonAmbiguous
		}
		return err
	})
	if err != nil {
		code, detail := d.outcome(err)
		return nil, code, detail
	}
	return person, outcome, ""
}

// outcome turns an error of a search into a reason.
func (d *Directory) outcome(err error) (reason.Code, string) {
	var f *Failure
	if errors.As(err, &f) {
		switch {
		case f.Bind:
			return reason.DirectoryBind, f.Detail
		case f.Connect:
			return reason.DirectoryUnreachable, f.Detail
		}
		return reason.DirectoryFailed, f.Detail
	}
	if broken(err) {
		return reason.DirectoryUnreachable, message(err)
	}
	return reason.DirectoryFailed, message(err)
}

// person reads the entry of a person. now decides about expiry.
func (d *Directory) person(e *ldap.Entry, now time.Time) *facts.Person {
	p := &facts.Person{Store: d.cfg.Name, ID: e.DN, State: reason.OK, Attributes: map[string][]string{}}
	for _, name := range []string{"sAMAccountName", "uid", "userPrincipalName", "cn"} {
		if p.Name = e.GetEqualFoldAttributeValue(name); p.Name != "" {
			break
		}
	}
	if p.Display = e.GetEqualFoldAttributeValue("displayName"); p.Display == "" {
		p.Display = e.GetEqualFoldAttributeValue("cn")
	}
	for _, name := range append([]string{"mail"}, d.cfg.Attributes...) {
		if values := e.GetEqualFoldAttributeValues(name); len(values) > 0 {
			p.Attributes[name] = bounded(values)
		}
	}
	if d.cfg.Kind == config.ActiveDirectory {
		p.State = domainState(e, now)
	} else {
		p.State = genericState(e, now)
	}
	return p
}

// bounded keeps recorded attributes small.
func bounded(values []string) []string {
	out := make([]string, 0, min(len(values), 20))
	for _, v := range values[:min(len(values), 20)] {
		out = append(out, short(v))
	}
	return out
}

// Bits of userAccountControl and its computed companion.
const (
	accountDisabled = 0x2
	accountLocked   = 0x10
)

// domainState reads the account state of the Active Directory kind.
func domainState(e *ldap.Entry, now time.Time) reason.Code {
	control, _ := strconv.Atoi(e.GetEqualFoldAttributeValue("userAccountControl"))
	computed, _ := strconv.Atoi(e.GetEqualFoldAttributeValue("msDS-User-Account-Control-Computed"))
	expires, _ := strconv.ParseInt(e.GetEqualFoldAttributeValue("accountExpires"), 10, 64)
	switch {
	case control&accountDisabled != 0:
		return reason.PersonDisabled
	case expires > 0 && expires < 1<<62 && fromFileTime(expires).Before(now):
		return reason.PersonExpired
	case computed&accountLocked != 0:
		return reason.PersonLocked
	}
	return reason.OK
}

// fromFileTime reads 100-nanosecond steps since 1601.
func fromFileTime(v int64) time.Time { return time.Unix(v/10_000_000-11_644_473_600, 0) }

// genericState reads the operational attributes by which common directories lock accounts.
func genericState(e *ldap.Entry, now time.Time) reason.Code {
	switch {
	case e.GetEqualFoldAttributeValue("pwdAccountLockedTime") != "":
		return reason.PersonLocked
	case strings.EqualFold(e.GetEqualFoldAttributeValue("nsAccountLock"), "true"):
		return reason.PersonDisabled
	}
	if days, err := strconv.ParseInt(e.GetEqualFoldAttributeValue("shadowExpire"), 10, 32); err == nil && days >= 0 && now.Unix()/86400 >= days {
		return reason.PersonExpired
	}
	return reason.OK
}

// groupsOf lists the names of all groups of a person, nested ones too.
func (d *Directory) groupsOf(c *ldap.Conn, base string, e *ldap.Entry) ([]string, error) {
	if d.cfg.Kind == config.ActiveDirectory {
		return d.domainGroups(c, base, e)
	}
	return d.genericGroups(c, base, e)
}

// domainGroups asks the server to follow the chain of memberships (matching rule 1.2.840.113556.1.4.1941) and adds
// the primary group, which is no member attribute.
func (d *Directory) domainGroups(c *ldap.Conn, base string, e *ldap.Entry) ([]string, error) {
	filter := fmt.Sprintf("(member:1.2.840.113556.1.4.1941:=%s)", ldap.EscapeFilter(e.DN))
	sid := e.GetEqualFoldRawAttributeValue("objectSid")
	primary, err := strconv.ParseUint(e.GetEqualFoldAttributeValue("primaryGroupID"), 10, 32)
	if err == nil && len(sid) >= 12 {
		group := slices.Clone(sid)
		for i := range 4 { // the last sub-authority, little endian
			group[len(group)-4+i] = byte(primary >> (8 * i))
		}
		filter = fmt.Sprintf("(|%s(objectSid=%s))", filter, escapeOctets(group))
	}
	names, _, err := d.groupSearch(c, base, "(&(objectClass=group)"+filter+")")
	return names, err
}

func escapeOctets(data []byte) string {
	var b strings.Builder
	for _, octet := range data {
		fmt.Fprintf(&b, `\%02x`, octet)
	}
	return b.String()
}

// genericGroups follows groupOfNames, groupOfUniqueNames and posixGroup upwards, level by level.
func (d *Directory) genericGroups(c *ldap.Conn, base string, e *ldap.Entry) ([]string, error) {
	var names []string
	known := map[string]bool{}
	level := []string{e.DN}
	for depth := 0; len(level) > 0 && depth < maxNesting && len(names) < maxGroups; depth++ {
		var filter strings.Builder
		for _, dn := range level {
			v := ldap.EscapeFilter(dn)
			fmt.Fprintf(&filter, "(member=%s)(uniqueMember=%s)", v, v)
		}
		if depth == 0 {
			if uid := e.GetEqualFoldAttributeValue("uid"); uid != "" {
				fmt.Fprintf(&filter, "(&(objectClass=posixGroup)(memberUid=%s))", ldap.EscapeFilter(uid))
			}
			if gid := e.GetEqualFoldAttributeValue("gidNumber"); gid != "" {
				fmt.Fprintf(&filter, "(&(objectClass=posixGroup)(gidNumber=%s))", ldap.EscapeFilter(gid))
			}
		}
		found, dns, err := d.groupSearch(c, base, "(|"+filter.String()+")")
		if err != nil {
			return nil, err
		}
		level = level[:0]
		for i, dn := range dns {
			if key := strings.ToLower(dn); !known[key] {
				known[key] = true
				names, level = append(names, found[i]), append(level, dn)
			}
		}
		if len(level) > 50 {
			level = level[:50] // keeps the filter of the next level short
		}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// groupSearch returns the names and DNs of groups.
func (d *Directory) groupSearch(c *ldap.Conn, base, filter string) (names, dns []string, err error) {
	result, err := c.SearchWithPaging(ldap.NewSearchRequest(d.groupBase(base), ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, d.seconds(), false, filter, []string{"cn"}, nil), 500)
	if err != nil {
		return nil, nil, err
	}
	for _, entry := range result.Entries[:min(len(result.Entries), maxGroups)] {
		if cn := entry.GetEqualFoldAttributeValue("cn"); cn != "" {
			names, dns = append(names, cn), append(dns, entry.DN)
		}
	}
	if d.cfg.Kind == config.ActiveDirectory {
		slices.Sort(names)
		names = slices.Compact(names)
	}
	return names, dns, nil
}

// CheckPassword binds as the person. An empty password is refused here, before any bind, since many directories
// take it for an anonymous one (RFC 4513 section 5.1.2).
func (d *Directory) CheckPassword(ctx context.Context, dn, password string) (reason.Code, string) {
	if password == "" {
		return reason.PasswordEmpty, ""
	}
	ctx, cancel := context.WithTimeout(ctx, 2*d.cfg.Timeout())
	defer cancel()
	for attempt := 0; ; attempt++ {
		c, err := d.verify.take(ctx)
		if err != nil {
			return reason.Busy, err.Error()
		}
		reused := c != nil
		if c == nil {
			if c, err = d.connect(ctx); err != nil {
				d.verify.drop(nil)
				return d.outcome(err)
			}
		}
		err = c.Bind(dn, password)
		if !broken(err) {
			d.verify.give(c)
			return bindOutcome(err)
		}
		d.mark(c.server, true)
		d.verify.drop(c)
		if !reused || attempt >= poolSize {
			return bindOutcome(err)
		}
	}
}

// Group is one group found by Groups.
type Group struct {
	Name string `json:"name"`
	DN   string `json:"dn"`
}

// Groups lists groups whose name contains the text, at most limit of them; more tells that there are others.
func (d *Directory) Groups(ctx context.Context, text string, limit int) (groups []Group, more bool, err error) {
	groups = []Group{}
	err = d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		result, err := c.Search(ldap.NewSearchRequest(d.groupBase(base), ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, limit, d.seconds(), false, d.groupsFilter(text), []string{"cn"}, nil))
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return err
		}
		more = err != nil
		for _, e := range result.Entries {
			groups = append(groups, Group{e.GetEqualFoldAttributeValue("cn"), e.DN})
		}
		slices.SortFunc(groups, func(a, b Group) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
		return nil
	})
	if err != nil {
		_, detail := d.outcome(err)
		return nil, false, fmt.Errorf("listing the groups of directory %s: %s", d.cfg.Name, detail)
	}
	return groups, more, nil
}
