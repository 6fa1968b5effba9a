package certificate

import (
	"crypto/x509"
	"strings"

	"tollgate.example/key/internal/core/facts"
)

// Where the name of the peer may be read from.
const (
	FromUPN     = "upn"
	FromDNS     = "dns"
	FromEmail   = "email"
	FromURI     = "uri"
	FromSubject = "subject"
)

// Facts are what is recorded of a peer's certificate.
func Facts(c *x509.Certificate) *facts.Certificate {
	return &facts.Certificate{Subject: valid(c.Subject.String()), Issuer: valid(c.Issuer.String()), Serial: Serial(c),
		Until: c.NotAfter.UTC(),
		UPN:   few(UPNs(c)), DNS: few(c.DNSNames), Email: few(c.EmailAddresses)}
}

func few(list []string) []string {
	var out []string
	for _, text := range list {
		if len(out) < 8 && len(text) <= 253 {
			out = append(out, valid(text))
		}
	}
	return out
}

func valid(text string) string {
	if len(text) > 1000 {
		text = text[:1000]
	}
	return strings.ToValidUTF8(text, "?")
}

// Identity reads the name that a certificate stands for, from the first of the sources that gives one. A DNS name
// stands for a computer and comes out as host/NAME.
func Identity(c *x509.Certificate, sources []string) (name, source string) {
	for _, source := range sources {
		var list []string
		switch source {
		case FromUPN:
			list = UPNs(c)
		case FromEmail:
			list = c.EmailAddresses
		case FromURI:
			list = uriNames(c.URIs)
		case FromSubject:
			list = []string{c.Subject.CommonName}
		case FromDNS:
			for _, name := range c.DNSNames {
				list = append(list, "host/"+name)
			}
		}
		for _, name := range list {
			if name != "" && len(name) <= 253 && strings.ToValidUTF8(name, "") == name && !strings.ContainsRune(name,
				0) && !strings.Contains(name, "*") {
				return name, source
			}
		}
	}
	return "", ""
}
