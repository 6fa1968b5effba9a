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
	options := x509.VerifyOptions{Roots: t.Pool(), Intermediates: x509.NewCertPool(), CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	for _, c := range chain[1:min(len(chain), 12)] {
		options.Intermediates.AddCert(c)
	}
	paths, err := leaf.Verify(options)
	if err != nil {
		return t.explain(leaf, err, now)
	}
	path := paths[0]
	if len(path) < 2 {
		return refuse(reason.CertificateUntrusted, "the certificate is an authority itself")
	}
	return t.revocation(ctx, leaf, path[1], staple, now)
}

// explain turns an error of crypto/x509 into a reason.
func (t *Trust) explain(leaf *x509.Certificate, err error, now time.Time) Verdict {
	var invalid x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && now.Before(invalid.Cert.NotBefore):
		return refuse(reason.CertificateEarly, "%s is valid from %s", invalid.Cert.Subject, invalid.Cert.NotBefore.UTC().Format(time.DateTime+" UTC"))
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return refuse(reason.CertificateExpired, "%s was valid until %s", invalid.Cert.Subject, invalid.Cert.NotAfter.UTC().Format(time.DateTime+" UTC"))
	case errors.As(err, &invalid) && invalid.Reason == x509.IncompatibleUsage:
		return refuse(reason.CertificatePurpose, "%s lacks the extended key usage clientAuth", leaf.Subject)
	case errors.As(err, &unknown):
		return refuse(reason.CertificateUntrusted, "%s was issued by %s; trust list %s holds %s", leaf.Subject, leaf.Issuer, t.Name, t.authorities())
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

// revocation asks our own records, then a stapled answer, then lists, then a responder. The first that knows decides.
func (t *Trust) revocation(ctx context.Context, leaf, issuer *x509.Certificate, staple []byte, now time.Time) Verdict {
	if t.Revoked != nil {
		if revoked, known, at := t.Revoked(issuer, Serial(leaf)); known {
			if revoked {
				return refuse(reason.CertificateRevoked, "%s, serial %s, revoked here at %s", leaf.Subject, Serial(leaf), at.UTC().Format(time.DateTime+" UTC"))
			}
			return Verdict{Code: reason.OK, Revocation: "not revoked, by our own record"}
		}
	}
	var asked []Status
	if len(staple) > 0 {
		asked = append(asked, readOCSP(staple, "the stapled answer", leaf, issuer, now))
	}
	lists := t.CRLs
	if t.Listed {
		lists = append(append([]string(nil), lists...), leaf.CRLDistributionPoints...)
	}
	for _, list := range lists[:min(len(lists), 8)] {
		asked = append(asked, t.Checker.List(ctx, list, leaf, issuer, now))
	}
	responder := t.OCSP
	if responder == "" && t.Responder && len(leaf.OCSPServer) > 0 {
		responder = leaf.OCSPServer[0]
	}
	if responder != "" && !decided(asked) {
		asked = append(asked, t.Checker.Ask(ctx, responder, leaf, issuer, now))
	}
	var words []string
	good := false
	for _, s := range asked {
		if s.Revoked {
			return refuse(reason.CertificateRevoked, "%s, serial %s, by %s at %s", leaf.Subject, Serial(leaf), s.Source, s.At.UTC().Format(time.DateTime+" UTC"))
		}
		good = good || s.Known
		words = append(words, s.String())
	}
	switch {
	case len(asked) == 0:
		return Verdict{Code: reason.OK, Revocation: "not checked"}
	case !good && t.Hard:
		return refuse(reason.CertificateUnchecked, "%s", strings.Join(words, "; "))
	case !good:
		return Verdict{Code: reason.OK, Revocation: "unknown, taken all the same: " + strings.Join(words, "; ")}
	}
	return Verdict{Code: reason.OK, Revocation: strings.Join(words, "; ")}
}

func decided(list []Status) bool {
	for _, s := range list {
		if s.Known {
			return true
		}
	}
	return false
}
