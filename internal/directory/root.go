package directory

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
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
	result, err := c.Search(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)",
		[]string{"namingContexts", "defaultNamingContext", "configurationNamingContext", "supportedCapabilities", "vendorName", "dnsHostName", "supportedLDAPVersion", "currentTime", "rootDomainNamingContext"}, nil))
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
		if !strings.HasPrefix(lower, "cn=config") && !strings.HasPrefix(lower, "cn=schema") && !strings.HasPrefix(lower, "cn=monitor") {
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

// baseOn returns the base of searches, asking the rootDSE if none is configured.
func (d *Directory) baseOn(c *ldap.Conn) (string, error) {
	d.mu.Lock()
	base := d.base
	d.mu.Unlock()
	if base != "" {
		return base, nil
	}
	r, err := readRoot(c)
	if err != nil {
		return "", fmt.Errorf("reading the rootDSE: %w", err)
	}
	if base = r.defaultContext(); base == "" {
		return "", &Failure{Detail: "the server names no base DN", Remedy: "Type the base DN, such as dc=lanternferries,dc=example."}
	}
	d.mu.Lock()
	d.base = base
	d.mu.Unlock()
	return base, nil
}

// clock tells how far the server's clock is ahead of now, where the server tells the time.
func (r root) clock(now time.Time) (ahead time.Duration, known bool) {
	at, err := time.Parse("20060102150405.0Z", r.entry.GetEqualFoldAttributeValue("currentTime"))
	if err != nil {
		return 0, false
	}
	return at.Sub(now).Truncate(100 * time.Millisecond), true
}
