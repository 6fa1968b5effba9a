package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
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
	const people = "(|(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account))"
	return fmt.Sprintf("(&%s(|(uid=%s)(mail=%s)))", people, v, v)
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
		"objectClass", "pwdLastSet", "accountExpires", "lockoutTime", "msDS-User-Account-Control-Computed",
		"primaryGroupID", "objectSid", "whenCreated"},
	config.Generic: {"objectClass", "pwdChangedTime", "shadowLastChange", "uid", "cn", "displayName", "mail",
		"gidNumber", "pwdAccountLockedTime", "nsAccountLock", "shadowExpire", "createTimestamp"},
}

// Remembered is the detail of somebody who was not asked for anew.
const Remembered = "remembered"

// Find looks one person up with groups. The outcome is OK, PersonUnknown, PersonAmbiguous or one of the directory
// codes, with a detail for people.
func (d *Directory) Find(ctx context.Context, name string) (*facts.Person, reason.Code, string) {
	if person := d.people.get(name); person != nil {
		return person, reason.OK, Remembered
	}
	leave, ok := d.place()
	if !ok {
		return nil, reason.Busy, d.crowded()
	}
	defer leave()
	person, outcome, detail := d.look(ctx, name)
	if outcome == reason.OK && person.State == reason.OK && d.cfg.CacheSeconds > 0 {
		copied := *person
		d.people.put(name, &copied, time.Duration(d.cfg.CacheSeconds)*time.Second)
	}
	return person, outcome, detail
}

// look is Find without what is remembered.
func (d *Directory) look(ctx context.Context, name string) (*facts.Person, reason.Code, string) {
	var person *facts.Person
	outcome := reason.PersonUnknown
	err := d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		attributes := slices.Concat(personAttributes[d.cfg.Kind], d.cfg.Attributes)
		result, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2,
			d.seconds(), false, d.personFilter(name), attributes, nil))
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
			person.Domain = d.domainName(c, person.ID)
			var groups []results.Group
			groups, err = d.groupsOf(c, base, result.Entries[0])
			person.Groups, outcome = d.groups.of(groups), reason.OK
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
	for _, name := range []string{"whenCreated", "createTimestamp"} {
		if at, err := ber.ParseGeneralizedTime([]byte(e.GetEqualFoldAttributeValue(name))); err == nil {
			p.Created = at.UTC()
		}
	}
	for _, name := range []string{"pwdLastSet", "pwdChangedTime", "shadowLastChange"} {
		p.PasswordSet += e.GetEqualFoldAttributeValue(name) + "/"
	}
	if d.cfg.Kind == config.ActiveDirectory {
		p.State = domainState(e, now)
	} else {
		p.State = genericState(e, now)
	}
	if p.State == reason.PersonLocked {
		d.FoundLocked()
	}
	if isComputer(e) {
		p.Kind = facts.Computer
	}
	return p
}

// isComputer reports whether an entry is that of a computer, whatever name it was found by: DOMAIN\PC01$ and host/pc01
// are the same account.
func isComputer(e *ldap.Entry) bool {
	for _, class := range e.GetEqualFoldAttributeValues("objectClass") {
		switch strings.ToLower(class) {
		case "computer", "device", "iphost":
			return true
		}
	}
	return strings.HasSuffix(e.GetEqualFoldAttributeValue("sAMAccountName"), "$")
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
	control, err := strconv.ParseInt(e.GetEqualFoldAttributeValue("userAccountControl"), 10, 64)
	if err != nil { // nobody is taken for enabled because it cannot be read
		return reason.PersonUnreadable
	}
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
	if days, err := strconv.ParseInt(e.GetEqualFoldAttributeValue("shadowExpire"), 10, 32); err == nil && days >= 0 &&
		now.Unix()/86400 >= days {
		return reason.PersonExpired
	}
	return reason.OK
}

// CheckPassword binds as the person. An empty password is refused here, before any bind, since many directories
// take it for an anonymous one (RFC 4513 section 5.1.2).
func (d *Directory) CheckPassword(ctx context.Context, dn, password string) (reason.Code, string) {
	if password == "" {
		return reason.PasswordEmpty, ""
	}
	leave, ok := d.place()
	if !ok {
		return reason.Busy, d.crowded()
	}
	defer leave()
	ctx, cancel := context.WithTimeout(ctx, 2*d.cfg.Timeout())
	defer cancel()
	fresh := 0
	for {
		c, err := d.verify.take(ctx)
		if err != nil {
			return reason.Busy, err.Error()
		}
		made := c == nil
		if made {
			fresh++
			if c, err = d.connect(ctx); err != nil {
				d.verify.drop(nil)
				return d.outcome(err)
			}
		}
		c.SetTimeout(d.share())
		err = d.verify.safely(c, func(l *ldap.Conn) error { return l.Bind(dn, password) })
		if !broken(err) {
			d.health.Answers(c.server)
			d.verify.give(c)
			return bindOutcome(err)
		}
		d.gone(c, made, err)
		d.verify.drop(c)
		if fresh > len(d.cfg.Servers) || ctx.Err() != nil {
			return bindOutcome(err)
		}
	}
}
