// Package certificate makes, reads, checks and writes certificates (RFC 5280): our own authorities and what they issue,
// signing requests for other authorities, the forms in which devices take them, and the identity that a client
// certificate stands for. Whether one is revoked is told by lists (CRL) and responders (OCSP, RFC 6960).
package certificate

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"tollgate.example/key/internal/core/results"
)

// Key types that can be made.
const (
	P256 = "p256"
	RSA  = "rsa2048"
)

// NewKey makes a private key.
func NewKey(kind string) (crypto.Signer, error) {
	switch kind {
	case "", P256:
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case RSA:
		return rsa.GenerateKey(rand.Reader, 2048)
	}
	return nil, fmt.Errorf("%q is no kind of key; use %s or %s", kind, P256, RSA)
}

// KeyPEM writes a private key (PKCS #8, RFC 5958).
func KeyPEM(key crypto.Signer) (string, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), nil
}

// ParseKey reads a private key in any of the usual PEM forms.
func ParseKey(text string) (crypto.Signer, error) {
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return nil, errors.New("there is no private key in PEM form; encrypted ones have to be opened first, or " +
				"imported as PKCS #12")
		}
		if key, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
			if signer, ok := key.(crypto.Signer); ok {
				return signer, nil
			}
		}
		if key, err := x509.ParseECPrivateKey(block.Bytes); err == nil {
			return key, nil
		}
		if key, err := x509.ParsePKCS1PrivateKey(block.Bytes); err == nil {
			return key, nil
		}
	}
}

// PEM writes certificates.
func PEM(list ...*x509.Certificate) string {
	var out strings.Builder
	for _, c := range list {
		pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
	}
	return out.String()
}

// maxChain bounds how many certificates one text may hold.
const maxChain = 200

// ParsePEM reads all certificates of a text.
func ParsePEM(text string) ([]*x509.Certificate, error) {
	var out []*x509.Certificate
	for rest := []byte(text); len(out) <= maxChain; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			continue
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("certificate %d cannot be read: %w", len(out)+1, err)
		}
		out = append(out, c)
	}
	switch {
	case len(out) == 0:
		return nil, errors.New("there is no certificate in PEM form")
	case len(out) > maxChain:
		return nil, fmt.Errorf("more than %d certificates", maxChain)
	}
	return out, nil
}

// Pair joins a chain with its key, in the order leaf, intermediates.
func Pair(chain []*x509.Certificate, key crypto.Signer) (*tls.Certificate, error) {
	public, ok := key.Public().(interface{ Equal(crypto.PublicKey) bool })
	if !ok {
		return nil, errors.New("the key is of an unknown kind")
	}
	leaf := -1
	for i, c := range chain {
		if public.Equal(c.PublicKey) {
			leaf = i
		}
	}
	if leaf < 0 {
		return nil, errors.New("the private key belongs to none of the certificates")
	}
	out := &tls.Certificate{PrivateKey: key, Leaf: chain[leaf], Certificate: [][]byte{chain[leaf].Raw}}
	for next := chain[leaf]; len(out.Certificate) < len(chain); {
		var issuer *x509.Certificate
		for _, c := range chain {
			if c != next && next.CheckSignatureFrom(c) == nil {
				issuer = c
			}
		}
		// the root is known to the peer or of no use to it
		if issuer == nil || string(issuer.RawSubject) == string(issuer.RawIssuer) {
			break
		}
		out.Certificate = append(out.Certificate, issuer.Raw)
		next = issuer
	}
	return out, nil
}

// Subject is what a certificate is made for.
type Subject struct {
	Name string
	// DNS, Email and UPN become alternative names; addresses in DNS are recognised.
	DNS, Email, UPN []string
	// Server and Client are the purposes.
	Server, Client bool
	From, Until    time.Time
	// CRL is where the authority's list is found, "" for nowhere.
	CRL string
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 126))
	if err != nil {
		panic("certificate: no randomness: " + err.Error())
	}
	return n.Add(n, big.NewInt(1))
}

// NewAuthority makes a self-signed authority.
func NewAuthority(name string, key crypto.Signer, from, until time.Time) (*x509.Certificate, error) {
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: name}, NotBefore: from,
		NotAfter: until, IsCA: true, BasicConstraintsValid: true,
		MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature}
	return create(t, t, key.Public(), key)
}

func create(template, parent *x509.Certificate, public crypto.PublicKey, signer crypto.Signer) (*x509.Certificate,
	error) {
	der, err := x509.CreateCertificate(rand.Reader, template, parent, public, signer)
	if err != nil {
		return nil, fmt.Errorf("signing the certificate of %s: %w", template.Subject.CommonName, err)
	}
	return x509.ParseCertificate(der)
}

// Issue signs a certificate.
func Issue(authority *x509.Certificate, signer crypto.Signer, s Subject, public crypto.PublicKey) (*x509.Certificate,
	error) {
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: s.Name}, NotBefore: s.From,
		NotAfter: s.Until, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature}
	if _, ok := public.(*rsa.PublicKey); ok {
		t.KeyUsage |= x509.KeyUsageKeyEncipherment
	}
	if s.Server {
		t.ExtKeyUsage = append(t.ExtKeyUsage, x509.ExtKeyUsageServerAuth)
	}
	if s.Client {
		t.ExtKeyUsage = append(t.ExtKeyUsage, x509.ExtKeyUsageClientAuth)
	}
	if s.CRL != "" {
		t.CRLDistributionPoints = []string{s.CRL}
	}
	san, err := s.alternatives()
	if err != nil {
		return nil, err
	}
	t.ExtraExtensions = san
	if t.NotAfter.After(authority.NotAfter) {
		t.NotAfter = authority.NotAfter
	}
	return create(t, authority, public, signer)
}

var (
	oidSAN = asn1.ObjectIdentifier{2, 5, 29, 17}
	oidUPN = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 20, 2, 3}
)

type otherName struct {
	ID    asn1.ObjectIdentifier
	Value asn1.RawValue
}

// alternatives writes the subject alternative names, with the user principal name as an otherName.
func (s Subject) alternatives() ([]pkix.Extension, error) {
	var names []asn1.RawValue
	add := func(tag int, value []byte) {
		names = append(names, asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: tag, Bytes: value})
	}
	for _, upn := range s.UPN {
		text, err := asn1.MarshalWithParams(upn, "utf8")
		if err != nil {
			return nil, err
		}
		value, err := asn1.Marshal(otherName{oidUPN, asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0,
			IsCompound: true, Bytes: text}})
		if err != nil {
			return nil, err
		}
		var sequence asn1.RawValue
		if _, err := asn1.Unmarshal(value, &sequence); err != nil {
			return nil, err
		}
		names = append(names, asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true,
			Bytes: sequence.Bytes})
	}
	for _, mail := range s.Email {
		add(1, []byte(mail))
	}
	for _, name := range s.DNS {
		if addr, err := netip.ParseAddr(name); err == nil {
			add(7, addr.AsSlice())
		} else {
			add(2, []byte(name))
		}
	}
	if len(names) == 0 {
		return nil, nil
	}
	value, err := asn1.Marshal(names)
	return []pkix.Extension{{Id: oidSAN, Value: value}}, err
}

// UPNs reads the user principal names among the alternative names.
func UPNs(c *x509.Certificate) []string {
	var out []string
	for _, extension := range c.Extensions {
		if !extension.Id.Equal(oidSAN) {
			continue
		}
		var names []asn1.RawValue
		if rest, err := asn1.Unmarshal(extension.Value, &names); err != nil || len(rest) > 0 {
			return out
		}
		for _, name := range names {
			if name.Class != asn1.ClassContextSpecific || name.Tag != 0 || len(out) == 16 {
				continue
			}
			var id asn1.ObjectIdentifier
			rest, err := asn1.Unmarshal(name.Bytes, &id)
			if err != nil || !id.Equal(oidUPN) {
				continue
			}
			var wrapped asn1.RawValue
			if _, err := asn1.Unmarshal(rest, &wrapped); err != nil || wrapped.Tag != 0 ||
				wrapped.Class != asn1.ClassContextSpecific {
				continue
			}
			var text string
			if _, err := asn1.Unmarshal(wrapped.Bytes, &text); err == nil {
				out = append(out, text)
			}
		}
	}
	return out
}

// Request makes a signing request (PKCS #10, RFC 2986) for a server.
func Request(s Subject, key crypto.Signer) (string, error) {
	t := &x509.CertificateRequest{Subject: pkix.Name{CommonName: s.Name}}
	t.DNSNames = append(t.DNSNames, s.DNS...)
	der, err := x509.CreateCertificateRequest(rand.Reader, t, key)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})), nil
}

// CRL signs the list of revoked certificates of an authority (RFC 5280 section 5).
func CRL(authority *x509.Certificate, signer crypto.Signer, revoked []x509.RevocationListEntry, now time.Time) ([]byte,
	error) {
	return x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(now.Unix()), ThisUpdate: now,
		NextUpdate: now.Add(24 * time.Hour), RevokedCertificateEntries: revoked}, authority, signer)
}

// Describe puts a certificate into words.
func Describe(c *x509.Certificate) results.Certificate {
	sum, sum1 := sha256.Sum256(c.Raw), sha1.Sum(c.Raw)
	info := results.Certificate{Subject: c.Subject.String(), Issuer: c.Issuer.String(), Serial: Serial(c),
		From: c.NotBefore.UTC(), Until: c.NotAfter.UTC(), CA: c.IsCA,
		DNS: []string{}, UPN: append([]string{}, UPNs(c)...), Email: append([]string{}, c.EmailAddresses...),
		SHA256: colons(sum[:]), SHA1: colons(sum1[:])}
	info.DNS = append(info.DNS, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		info.DNS = append(info.DNS, ip.String())
	}
	switch key := c.PublicKey.(type) {
	case *ecdsa.PublicKey:
		info.Key = "ECDSA " + key.Curve.Params().Name
	case *rsa.PublicKey:
		info.Key = fmt.Sprintf("RSA %d", key.N.BitLen())
	default:
		info.Key = c.PublicKeyAlgorithm.String()
	}
	return info
}

// Serial is the serial number in hexadecimal.
func Serial(c *x509.Certificate) string { return hex.EncodeToString(c.SerialNumber.Bytes()) }

func colons(b []byte) string {
	parts := make([]string, len(b))
	for i, c := range b {
		parts[i] = fmt.Sprintf("%02X", c)
	}
	return strings.Join(parts, ":")
}

// uriNames are the URIs among the alternative names.
func uriNames(list []*url.URL) []string {
	var out []string
	for _, u := range list {
		out = append(out, u.String())
	}
	return out
}
