package directory

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
)

// domainOf turns dc=lantern,dc=example into lantern.example.
func domainOf(base string) string {
	dn, err := ldap.ParseDN(base)
	if err != nil {
		return ""
	}
	var labels []string
	for _, rdn := range dn.RDNs {
		for _, a := range rdn.Attributes {
			if strings.EqualFold(a.Type, "dc") {
				labels = append(labels, a.Value)
			}
		}
	}
	return strings.Join(labels, ".")
}

// root is what the rootDSE (RFC 4512 section 5.1) tells before anybody is bound.
type root struct{ entry *ldap.Entry }

func readRoot(c *ldap.Conn) (root, error) {
	result, err := c.Search(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false,
		"(objectClass=*)",
		[]string{"namingContexts", "defaultNamingContext", "configurationNamingContext", "supportedCapabilities",
			"vendorName", "dnsHostName", "supportedLDAPVersion", "currentTime", "rootDomainNamingContext"}, nil))
	if err != nil {
		return root{}, err
	}
	if len(result.Entries) == 0 {
		return root{}, errors.New("the server has no rootDSE")
	}
	return root{result.Entries[0]}, nil
}

// defaultContext is the base that most people mean.
func (r root) defaultContext() string {
	if base := r.entry.GetAttributeValue("defaultNamingContext"); base != "" {
		return base
	}
	for _, base := range r.contexts() {
		lower := strings.ToLower(base)
		if !strings.HasPrefix(lower, "cn=config") && !strings.HasPrefix(lower, "cn=schema") &&
			!strings.HasPrefix(lower, "cn=monitor") {
			return base
		}
	}
	return ""
}

func (r root) contexts() []string { return r.entry.GetAttributeValues("namingContexts") }

// activeDirectory reports whether the server says that it is of the Active Directory kind.
func (r root) activeDirectory() bool {
	return slices.Contains(r.entry.GetAttributeValues("supportedCapabilities"), "1.2.840.113556.1.4.800")
}

// forestPorts are those of the global catalog, which knows the people and groups of all domains of a forest.
var forestPorts = []string{"3268", "3269"}

// forest reports whether all domains of a forest are searched: no base is set, and the global catalog is asked.
func (d *Directory) forest() bool {
	if d.cfg.Base != "" || d.cfg.Kind != config.ActiveDirectory || len(d.cfg.Servers) == 0 {
		return false
	}
	_, port, _ := net.SplitHostPort(d.cfg.Servers[0])
	return slices.Contains(forestPorts, port)
}

// baseOn returns the base of searches, asking the rootDSE if none is configured.
func (d *Directory) baseOn(c *ldap.Conn) (string, error) {
	d.mu.Lock()
	base := d.base
	d.mu.Unlock()
	if base != "" || d.forest() {
		return base, nil
	}
	r, err := readRoot(c)
	if err != nil {
		return "", fmt.Errorf("reading the rootDSE: %w", err)
	}
	if base = r.defaultContext(); base == "" {
		return "", &Failure{Detail: "the server names no base DN",
			Remedy: "Type the base DN, such as dc=lanternferries,dc=example."}
	}
	d.mu.Lock()
	d.base = base
	d.mu.Unlock()
	return base, nil
}

// domainLife is how long the names of the domains of a forest are used before they are read again.
const domainLife = time.Hour

// domains are the short names of the domains of a forest, by the DN of each in lower case.
type domains struct {
	names map[string]string
	at    time.Time
}

// domainName is the short name of the domain that an entry lies in; "" if only one domain is asked, or it is not known.
func (d *Directory) domainName(c *ldap.Conn, dn string) string {
	if !d.forest() {
		return ""
	}
	d.mu.Lock()
	known := d.domains
	d.mu.Unlock()
	if time.Since(known.at) > domainLife {
		names, err := d.readDomains(c)
		if err != nil {
			return "" // the domain that we are a member of is asked, which knows the others
		}
		known = domains{names, time.Now()}
		d.mu.Lock()
		d.domains = known
		d.mu.Unlock()
	}
	return domainAbove(known.names, dn)
}

// domainAbove finds the closest domain above an entry.
func domainAbove(names map[string]string, dn string) string {
	for rest := strings.ToLower(dn); rest != ""; _, rest, _ = strings.Cut(rest, ",") {
		if name, ok := names[rest]; ok {
			return name
		}
	}
	return ""
}

// readDomains lists the domains of the forest from its cross references.
func (d *Directory) readDomains(c *ldap.Conn) (map[string]string, error) {
	r, err := readRoot(c)
	if err != nil {
		return nil, err
	}
	where := "CN=Partitions," + r.entry.GetEqualFoldAttributeValue("configurationNamingContext")
	result, err := c.Search(ldap.NewSearchRequest(where, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 1000,
		d.seconds(), false, "(nETBIOSName=*)", []string{"nCName", "nETBIOSName"}, nil))
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	for _, e := range result.Entries {
		names[strings.ToLower(e.GetEqualFoldAttributeValue("nCName"))] = e.GetEqualFoldAttributeValue("nETBIOSName")
	}
	return names, nil
}

// clock tells how far the server's clock is ahead of now, where the server tells the time.
func (r root) clock(now time.Time) (ahead time.Duration, known bool) {
	at, err := time.Parse("20060102150405.0Z", r.entry.GetEqualFoldAttributeValue("currentTime"))
	if err != nil {
		return 0, false
	}
	return at.Sub(now).Truncate(100 * time.Millisecond), true
}

// Naming is the domain after which a directory names itself, and its short name; "" for what it does not tell.
func (d *Directory) Naming(ctx context.Context) (domain, short string) {
	// Whatever fails here leaves a proposal out, and nothing else.
	_ = d.with(ctx, func(c *ldap.Conn) error {
		base, err := d.baseOn(c)
		if err != nil {
			return err
		}
		domain = domainOf(cmp.Or(d.cfg.Base, base))
		if d.cfg.Kind == config.ActiveDirectory {
			short, err = d.netBIOS(c, base)
		}
		return err
	})
	return domain, short
}
