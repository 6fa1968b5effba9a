package certificate

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/core/reason"
)

// Trust is a trust list ready for use: which authorities may have issued a client's certificate, and how to find out
// whether it was revoked.
type Trust struct {
	Name  string
	Roots []*x509.Certificate
	// Sources are where the name is read from, in order.
	Sources []string
	// CRLs are URLs or files of lists; Listed uses those that the certificate itself names.
	CRLs   []string
	Listed bool
	// OCSP is a responder's URL; Responder uses the one that the certificate names.
	OCSP      string
	Responder bool
	// Hard refuses if no answer about revocation can be had.
	Hard bool
	// Revoked tells of our own authorities' certificates; known is false for those of others.
	Revoked func(issuer *x509.Certificate, serial string) (revoked, known bool, at time.Time)
	Checker *Checker

	pool *x509.CertPool
}

// Pool is the authorities as a pool.
func (t *Trust) Pool() *x509.CertPool {
	if t.pool == nil {
		t.pool = x509.NewCertPool()
		for _, c := range t.Roots {
			t.pool.AddCert(c)
		}
	}
	return t.pool
}

// Verdict is what became of a chain.
type Verdict struct {
	Code   reason.Code
	Detail string
	// Revocation says how revocation was checked.
	Revocation string
}

func refuse(code reason.Code, format string, args ...any) Verdict {
	return Verdict{Code: code, Detail: fmt.Sprintf(format, args...)}
}

// Verify builds a path from the leaf to one of the authorities (RFC 5280 section 6), checks its purpose, and asks
// whether it was revoked. staple is an OCSP answer that came along.
func (t *Trust) Verify(ctx context.Context, chain []*x509.Certificate, staple []byte, now time.Time) Verdict {
	if len(chain) == 0 {
		return Verdict{Code: reason.CertificateMissing}
	}
	leaf := chain[0]
	options := x509.VerifyOptions{Roots: t.Pool(), Intermediates: x509.NewCertPool(), CurrentTime: now,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	for _, c := range chain[1:min(len(chain), 12)] {
		options.Intermediates.AddCert(c)
	}
	paths, err := leaf.Verify(options)
	if err != nil {
		return t.explain(leaf, err, now)
	}
	return t.whole(ctx, paths, staple, now)
}

// whole asks about every certificate of a path below its anchor, and takes the first path on which none is refused.
func (t *Trust) whole(ctx context.Context, paths [][]*x509.Certificate, staple []byte, now time.Time) Verdict {
	var first Verdict
	for i, path := range paths[:min(len(paths), maxPaths)] {
		if len(path) < 2 {
			return refuse(reason.CertificateUntrusted, "the certificate is an authority itself")
		}
		var words []string
		v := Verdict{}
		for j := range path[:len(path)-1] {
			if v = t.revocation(ctx, path[j], path[j+1], staple, now); v.Code != reason.OK {
				break
			}
			staple = nil // it was about the leaf
			text := v.Revocation
			if j > 0 {
				text = path[j].Subject.String() + ": " + text
			}
			words = append(words, text)
		}
		if v.Code == reason.OK {
			v.Revocation = strings.Join(words, "; ")
			return v
		}
		if i == 0 {
			first = v
		}
	}
	return first
}

// maxPaths bounds how many ways to an authority are looked at.
const maxPaths = 4

// explain turns an error of crypto/x509 into a reason.
func (t *Trust) explain(leaf *x509.Certificate, err error, now time.Time) Verdict {
	var invalid x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && now.Before(invalid.Cert.NotBefore):
		return refuse(reason.CertificateEarly, "%s is valid from %s", invalid.Cert.Subject,
			invalid.Cert.NotBefore.UTC().Format(time.DateTime+" UTC"))
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return refuse(reason.CertificateExpired, "%s was valid until %s", invalid.Cert.Subject,
			invalid.Cert.NotAfter.UTC().Format(time.DateTime+" UTC"))
	case errors.As(err, &invalid) && invalid.Reason == x509.IncompatibleUsage:
		return refuse(reason.CertificatePurpose, "%s lacks the extended key usage clientAuth", leaf.Subject)
	case errors.As(err, &unknown):
		return refuse(reason.CertificateUntrusted, "%s was issued by %s; trust list %s holds %s", leaf.Subject,
			leaf.Issuer, t.Name, t.authorities())
	}
	return refuse(reason.CertificateUntrusted, "%v", err)
}

func (t *Trust) authorities() string {
	var names []string
	for _, c := range t.Roots {
		if len(names) == 5 {
			names = append(names, "…")
			break
		}
		names = append(names, c.Subject.String())
	}
	if len(names) == 0 {
		return "no authority"
	}
	return strings.Join(names, "; ")
}

// revocation asks our own records, then lists, then a responder, about one certificate. An answer that the peer brought
// along is looked at last, and only where it is recent: it spares no question, since the peer chose which answer to
// show.
func (t *Trust) revocation(ctx context.Context, cert, issuer *x509.Certificate, staple []byte, now time.Time) Verdict {
	if t.Revoked != nil {
		if revoked, known, at := t.Revoked(issuer, Serial(cert)); known {
			if revoked {
				return refuse(reason.CertificateRevoked, "%s, serial %s, revoked here at %s", cert.Subject,
					Serial(cert), at.UTC().Format(time.DateTime+" UTC"))
			}
			return Verdict{Code: reason.OK, Revocation: "not revoked, by our own record"}
		}
	}
	asked := t.ask(ctx, cert, issuer, now)
	if len(staple) > 0 {
		s := readOCSP(staple, "the stapled answer", cert, issuer, now, stapleAge)
		if s.Revoked || !decided(asked) {
			asked = append(asked, s)
		}
	}
	var words []string
	for _, s := range asked {
		if s.Revoked {
			return refuse(reason.CertificateRevoked, "%s, serial %s, by %s at %s", cert.Subject, Serial(cert),
				s.Source, s.At.UTC().Format(time.DateTime+" UTC"))
		}
		words = append(words, s.String())
	}
	said := strings.Join(words, "; ")
	switch {
	case decided(asked):
		return Verdict{Code: reason.OK, Revocation: said}
	case t.Hard && len(asked) == 0:
		return refuse(reason.CertificateUnchecked, "%s: neither trust list %s nor the certificate names a list or "+
			"responder to ask", cert.Subject, t.Name)
	case t.Hard:
		return refuse(reason.CertificateUnchecked, "%s: %s", cert.Subject, said)
	case len(asked) == 0:
		return Verdict{Code: reason.OK, Revocation: "not checked"}
	}
	return Verdict{Code: reason.OK, Revocation: "unknown, accepted all the same: " + said}
}

// ask asks the sources of the trust list, and those that the certificate names where the trust list lets it.
func (t *Trust) ask(ctx context.Context, cert, issuer *x509.Certificate, now time.Time) []Status {
	var asked []Status
	for _, list := range t.CRLs[:min(len(t.CRLs), maxSources)] {
		asked = append(asked, t.Checker.List(ctx, list, cert, issuer, now))
	}
	if t.Listed {
		for _, list := range cert.CRLDistributionPoints[:min(len(cert.CRLDistributionPoints), maxSources)] {
			if onWeb(list) {
				asked = append(asked, t.Checker.List(ctx, list, cert, issuer, now))
			}
		}
	}
	responder := t.OCSP
	if responder == "" && t.Responder && len(cert.OCSPServer) > 0 && onWeb(cert.OCSPServer[0]) {
		responder = cert.OCSPServer[0]
	}
	if responder != "" && !decided(asked) {
		asked = append(asked, t.Checker.Ask(ctx, responder, cert, issuer, now))
	}
	return asked
}

// maxSources bounds the lists of each kind that are looked at for one certificate.
const maxSources = 8

// onWeb reports whether a location that a certificate names may be asked: files are for the administrator to name.
func onWeb(location string) bool {
	return strings.HasPrefix(location, "http://") || strings.HasPrefix(location, "https://")
}

func decided(list []Status) bool {
	for _, s := range list {
		if s.Known {
			return true
		}
	}
	return false
}
