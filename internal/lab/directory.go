package lab

import (
	"crypto/tls"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/hashicorp/go-hclog"
	"github.com/jimlambrt/gldap"

	"tollgate.example/key/internal/core/config"
)

// entry is one entry of the stand-in directory.
type entry struct {
	dn         string
	attributes map[string][]string
	password   string
	refusal    string // the detail code of a refused bind, "" if none
}

// Directory is a stand-in directory of the Active Directory kind: it answers rootDSE, simple binds in the three name
// forms with their detail codes, StartTLS, and searches with nested group membership.
type Directory struct {
	entries []*entry
	byDN    map[string]*entry
	servers []*gldap.Server
	tls     *tls.Config

	mu    sync.Mutex
	bound map[int]string // connection -> DN
}

// NewDirectory makes the directory of Lantern Ferries.
func NewDirectory(config *tls.Config) *Directory {
	d := &Directory{byDN: map[string]*entry{}, bound: map[int]string{}, tls: config}
	d.add(&entry{dn: BaseDN, attributes: map[string][]string{"objectClass": {"top", "domain"},
		"dc": {"lanternferries"}, "lockoutThreshold": {"5"}, "lockOutObservationWindow": {"-18000000000"}}})
	for _, ou := range append([]string{"OU=People", "OU=Groups", "OU=Services"}, "OU=North Pier,OU=People",
		"OU=South Pier,OU=People", "OU=MV Heron,OU=People") {
		d.add(&entry{dn: ou + "," + BaseDN, attributes: map[string][]string{"objectClass": {"top",
			"organizationalUnit"}}})
	}
	members := map[string][]string{}
	for i, p := range People() {
		d.add(personEntry(i, &p))
		for _, g := range p.Groups {
			members[g] = append(members[g], p.DN())
		}
	}
	for i := range computers {
		e := computerEntry(i)
		d.add(e)
		members[computersGroup] = append(members[computersGroup], e.dn)
	}
	service := Person{User: ServiceName, First: "Tollgate", Last: "Service", Site: "North Pier"}
	e := personEntry(800, &service)
	e.dn, e.password = "CN="+ServiceName+",OU=Services,"+BaseDN, ServicePassword
	e.attributes["msDS-UserPasswordExpiryTimeComputed"] = []string{fileTime(time.Now().AddDate(0, 0, 12))}
	d.add(e)
	d.add(&entry{dn: "CN=DC1,OU=Services," + BaseDN, attributes: map[string][]string{"objectClass": {"top", "person",
		"organizationalPerson", "user", "computer"}, "cn": {"DC1"}, "sAMAccountName": {"DC1$"},
		"dNSHostName": {"dc1." + Domain}, "userAccountControl": {"532480"}, "objectSid": {sid(1000)}}})
	for outer, inner := range nested {
		for _, g := range inner {
			members[outer] = append(members[outer], groupDN(g))
		}
	}
	for i, name := range groupNames {
		d.add(&entry{dn: groupDN(name), attributes: map[string][]string{"objectClass": {"top", "group"}, "cn": {name},
			"sAMAccountName": {name},
			"member":         members[name], "objectSid": {sid(firstGroup + i)}}})
	}
	d.add(&entry{dn: groupDN("Domain Users"), attributes: map[string][]string{"objectClass": {"top", "group"},
		"cn": {"Domain Users"}, "objectSid": {sid(513)}}})
	return d
}

// firstGroup is the last part of the security identifier of the first of the groups.
const firstGroup = 2000

// pickedGroups are the groups that the policies of the demo name.
func pickedGroups() []config.PickedGroup {
	var out []config.PickedGroup
	for i, name := range groupNames {
		if name != "Shore Staff" && name != "All Crew" {
			out = append(out, config.PickedGroup{ID: fmt.Sprintf("S-1-5-21-1-2-3-%d", firstGroup+i), Name: name})
		}
	}
	return out
}

// Rename gives a group another name, as an administrator of the directory does one day.
func (d *Directory) Rename(group, name string) {
	if e := d.byDN[strings.ToLower(groupDN(group))]; e != nil {
		e.attributes["cn"], e.attributes["sAMAccountName"] = []string{name}, []string{name}
	}
}

func (d *Directory) add(e *entry) {
	d.entries = append(d.entries, e)
	d.byDN[strings.ToLower(e.dn)] = e
}

func personEntry(i int, p *Person) *entry {
	e := &entry{dn: p.DN(), password: p.Password(), attributes: map[string][]string{
		"objectClass": {"top", "person", "organizationalPerson", "user"}, "cn": {p.Display()},
		"displayName": {p.Display()}, "givenName": {p.First}, "sn": {p.Last},
		"sAMAccountName": {p.User}, "userPrincipalName": {p.User + "@" + Domain}, "mail": {p.User + "@" + Domain},
		"department":                 p.Groups,
		"physicalDeliveryOfficeName": {p.Site}, "userAccountControl": {"512"}, "accountExpires": {"0"},
		"primaryGroupID": {"513"}, "objectSid": {sid(1100 + i)},
		"msDS-User-Account-Control-Computed": {"0"}, "whenCreated": {time.Date(2024, 2, 1+i, 8, 0, 0, 0,
			time.UTC).Format("20060102150405.0Z")},
	}}
	if i%9 != 4 { // some never gave theirs
		e.attributes["mobile"] = []string{fmt.Sprintf("+99 555 01%02d", i)}
	}
	switch p.Condition {
	case Disabled:
		e.refusal, e.attributes["userAccountControl"] = "533", []string{"514"}
	case Expired:
		e.refusal, e.attributes["accountExpires"] = "701",
			[]string{fileTime(time.Date(2026, 3, 31, 0, 0, 0, 0, time.UTC))}
	case Locked:
		e.refusal, e.attributes["msDS-User-Account-Control-Computed"] = "775", []string{"16"}
	case MustChange:
		e.refusal = "773"
	case PasswordExpired:
		e.refusal = "532"
	}
	return e
}

// The office computers of Lantern Ferries, pc01 and so on.
const (
	computers      = 6
	computersGroup = "Office PCs"
)

func computerName(i int) string { return fmt.Sprintf("pc%02d", i+1) }

func computerEntry(i int) *entry {
	name := computerName(i)
	return &entry{dn: "CN=" + strings.ToUpper(name) + ",OU=Services," + BaseDN, password: "never-typed-" + name,
		attributes: map[string][]string{
			"objectClass": {"top", "person", "organizationalPerson", "user", "computer"}, "cn": {strings.ToUpper(name)},
			"sAMAccountName": {strings.ToUpper(name) + "$"}, "dNSHostName": {name + "." + Domain},
			"userAccountControl": {"4096"}, "accountExpires": {"0"}, "primaryGroupID": {"515"},
			"objectSid": {sid(1300 + i)}, "msDS-User-Account-Control-Computed": {"0"},
		}}
}

// sid makes a security identifier of the domain S-1-5-21-1-2-3 in binary form.
func sid(rid int) string {
	out := []byte{1, 5, 0, 0, 0, 0, 0, 5}
	for _, v := range []int{21, 1, 2, 3, rid} {
		out = append(out, byte(v), byte(v>>8), byte(v>>16), byte(v>>24))
	}
	return string(out)
}

// Serve listens on an address, with TLS from the first octet if secure is set, until Close.
func (d *Directory) Serve(address string, secure bool) error {
	probe, err := net.Listen("tcp", address) // gldap reports a taken port only by ending
	if err != nil {
		return fmt.Errorf("the stand-in directory cannot listen on %s: %w", address, err)
	}
	probe.Close()
	s, err := gldap.NewServer(gldap.WithLogger(hclog.NewNullLogger()))
	if err != nil {
		return err
	}
	mux, err := gldap.NewMux()
	if err != nil {
		return err
	}
	for _, err := range []error{mux.Bind(d.bind), mux.Search(d.search), mux.Unbind(d.unbind),
		mux.ExtendedOperation(d.startTLS, gldap.ExtendedOperationStartTLS), s.Router(mux)} {
		if err != nil {
			return err
		}
	}
	options := []gldap.Option{}
	if secure {
		options = append(options, gldap.WithTLSConfig(d.tls))
	}
	go s.Run(address, options...)
	d.servers = append(d.servers, s)
	for range 200 {
		if s.Ready() {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("the stand-in directory did not start on %s", address)
}

// Close ends all listening. It waits only a moment for those who keep idle connections.
func (d *Directory) Close() {
	for _, s := range d.servers {
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			s.Stop()
		}()
		select {
		case <-ended:
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func (d *Directory) startTLS(w *gldap.ResponseWriter, r *gldap.Request) {
	response := r.NewExtendedResponse(gldap.WithResponseCode(gldap.ResultSuccess))
	response.SetResponseName(gldap.ExtendedOperationStartTLS)
	w.Write(response)
	r.StartTLS(d.tls)
}

func (d *Directory) unbind(_ *gldap.ResponseWriter, r *gldap.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.bound, r.ConnectionID())
}

func (d *Directory) bind(w *gldap.ResponseWriter, r *gldap.Request) {
	response := r.NewBindResponse(gldap.WithResponseCode(gldap.ResultInvalidCredentials))
	defer func() { w.Write(response) }()
	m, err := r.GetSimpleBindMessage()
	if err != nil {
		return
	}
	if m.Password == "" { // as many directories do: an anonymous bind
		response.SetResultCode(gldap.ResultSuccess)
		return
	}
	e := d.named(m.UserName)
	detail := "52e"
	if e != nil && e.password != "" && string(m.Password) == e.password {
		detail = e.refusal
	}
	if detail != "" {
		response.SetDiagnosticMessage(fmt.Sprintf("80090308: LdapErr: DSID-0C090446, comment: AcceptSecurityContext "+
			"error, data %s, v4563", detail))
		return
	}
	d.mu.Lock()
	d.bound[r.ConnectionID()] = e.dn
	d.mu.Unlock()
	response.SetResultCode(gldap.ResultSuccess)
}

// named finds an entry by DN, name@domain or DOMAIN\name.
func (d *Directory) named(name string) *entry {
	if e := d.byDN[strings.ToLower(name)]; e != nil {
		return e
	}
	user := name
	if prefix, after, ok := strings.Cut(name, `\`); ok && strings.EqualFold(prefix, NetBIOS) {
		user = after
	} else if before, ok := strings.CutSuffix(strings.ToLower(name), "@"+Domain); ok {
		user = before
	} else {
		return nil
	}
	for _, e := range d.entries {
		if v := e.attributes["sAMAccountName"]; len(v) > 0 && strings.EqualFold(v[0], user) {
			return e
		}
	}
	return nil
}

func (d *Directory) search(w *gldap.ResponseWriter, r *gldap.Request) {
	done := r.NewSearchDoneResponse(gldap.WithResponseCode(gldap.ResultSuccess))
	defer func() { w.Write(done) }()
	m, err := r.GetSearchMessage()
	if err != nil {
		done.SetResultCode(gldap.ResultProtocolError)
		return
	}
	if m.BaseDN == "" && m.Scope == gldap.BaseObject {
		root := r.NewSearchResponseEntry("")
		for name, values := range map[string][]string{"namingContexts": {BaseDN, "CN=Configuration," + BaseDN},
			"defaultNamingContext":  {BaseDN},
			"supportedCapabilities": {"1.2.840.113556.1.4.800"}, "dnsHostName": {"dc1." + Domain},
			"supportedLDAPVersion": {"3"}, "currentTime": {time.Now().UTC().Format("20060102150405.0Z")}} {
			root.AddAttribute(name, values)
		}
		w.Write(root)
		return
	}
	d.mu.Lock()
	who := d.bound[r.ConnectionID()]
	d.mu.Unlock()
	if who == "" {
		done.SetResultCode(gldap.ResultOperationsError)
		done.SetDiagnosticMessage("000004DC: LdapErr: DSID-0C090A5C, comment: In order to perform this operation a " +
			"successful bind must be completed on the connection.")
		return
	}
	if d.byDN[strings.ToLower(m.BaseDN)] == nil {
		done.SetResultCode(gldap.ResultNoSuchObject)
		done.SetMatchedDN(BaseDN)
		return
	}
	filter, err := ldap.CompileFilter(m.Filter)
	if err != nil {
		done.SetResultCode(gldap.ResultFilterError)
		return
	}
	sent := int64(0)
	for _, e := range d.entries {
		if !within(e.dn, m.BaseDN, m.Scope) || !d.fits(filter, e) {
			continue
		}
		if m.SizeLimit > 0 && sent == m.SizeLimit {
			done.SetResultCode(gldap.ResultSizeLimitExceeded)
			return
		}
		sent++
		out := r.NewSearchResponseEntry(e.dn)
		for name, values := range e.attributes {
			if len(values) > 0 && wanted(name, m.Attributes) {
				out.AddAttribute(name, values)
			}
		}
		w.Write(out)
	}
}

func within(dn, base string, scope gldap.Scope) bool {
	dn, base = strings.ToLower(dn), strings.ToLower(base)
	if scope == gldap.BaseObject {
		return dn == base
	}
	if scope == gldap.SingleLevel {
		_, parent, _ := strings.Cut(dn, ",")
		return parent == base
	}
	return dn == base || strings.HasSuffix(dn, ","+base)
}

func wanted(name string, list []string) bool {
	return len(list) == 0 || slices.ContainsFunc(list, func(w string) bool {
		return w == "*" || strings.EqualFold(w, name)
	})
}
