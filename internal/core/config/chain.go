package config

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"slices"
)

// checkLeaf warns of a certificate without what lies between it and its authority: devices that trust that authority
// may still refuse it.
func (c *Config) checkLeaf(k *checker, s *Certificate) {
	leaf := first(s.Chain)
	if leaf == nil || bytes.Equal(leaf.RawIssuer, leaf.RawSubject) {
		return
	}
	for _, a := range c.Authorities {
		if own := first(a.Certificate); own != nil && bytes.Equal(own.RawSubject, leaf.RawIssuer) {
			return
		}
	}
	k.warn("chain", LeafOnly, "If an intermediate authority issued it, enter its certificate behind this one.",
		"the certificate of %s stands alone: devices that do not know its issuer %s refuse it", leaf.Subject,
		leaf.Issuer)
}

// first is the first certificate of a PEM text, nil if it cannot be read.
func first(text string) *x509.Certificate {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil
	}
	cert, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil
	}
	return cert
}

// provesClients reports whether a certificate may prove whoever connects (RFC 5280 section 4.2.1.12).
func provesClients(c *x509.Certificate) bool {
	return len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) == 0 || slices.Contains(c.ExtKeyUsage,
		x509.ExtKeyUsageClientAuth) || slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageAny)
}
