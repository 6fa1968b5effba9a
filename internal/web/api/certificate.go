package api

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/manage/attention"
	"tollgate.example/key/internal/web/apitype"
)

// Lifetimes of what is made here, in days. Devices refuse server certificates that live much longer than a year.
const (
	authorityDays = 3650
	serverDays    = 397
	clientDays    = 365
	day           = 24 * time.Hour
)

func (s *server) certificates() {
	register(s, &kind[config.Authority, *config.Authority, apitype.AuthorityInput, apitype.Authority]{
		name: "authority", plural: "authorities",
		list:  func(c *config.Config) *[]*config.Authority { return &c.Authorities },
		apply: s.applyAuthority,
		text:  func(a *config.Authority) string { return a.Name },
		views: func(*config.Config) func(*config.Authority, apitype.Meta) apitype.Authority { return s.authorityView },
	})
	register(s, &kind[config.Certificate, *config.Certificate, apitype.CertificateInput, apitype.ServerCertificate]{
		name: "certificate", plural: "certificates",
		list:  func(c *config.Config) *[]*config.Certificate { return &c.Certificates },
		apply: s.applyCertificate,
		text:  func(c *config.Certificate) string { return c.Name },
		views: certificateView,
	})
	register(s, &kind[config.Trust, *config.Trust, apitype.TrustFields, apitype.Trust]{
		name: "trust", plural: "trusts",
		list: func(c *config.Config) *[]*config.Trust { return &c.Trusts },
		apply: func(_ *config.Config, t *config.Trust, in *apitype.TrustFields) (string, error) {
			t.Name, t.Authorities, t.PEM, t.Identity, t.CRLs, t.Listed = in.Name, in.Authorities, in.PEM, in.Identity,
				in.CRLs, in.Listed
			t.OCSP, t.Responder, t.Unanswered, t.Note = in.OCSP, in.Responder, in.Unanswered, in.Note
			return "", nil
		},
		text:  func(t *config.Trust) string { return t.Name },
		views: trustView,
	})
	s.issuing()
	s.supplicants()
}

func faulty(field, message, remedy string) error {
	return problem(http.StatusUnprocessableEntity, "Not saved. Correct the fields marked below.", "",
		apitype.Fault{Field: field, Message: message, Remedy: remedy})
}

func (s *server) applyAuthority(_ *config.Config, a *config.Authority, in *apitype.AuthorityInput) (string, error) {
	a.Name, a.Note = in.Name, in.Note
	switch {
	case in.Make != nil:
		key, text, err := newKey(in.Make.Key)
		if err != nil {
			return "", err
		}
		now := time.Now()
		cert, err := certificate.NewAuthority(orElse(in.Make.Subject, in.Name), key, now.Add(-time.Hour),
			now.Add(days(in.Make.Days, authorityDays)))
		if err != nil {
			return "", faulty("make.subject", err.Error(), "Use a shorter name.")
		}
		a.Certificate, a.Key = certificate.PEM(cert), s.Box.Seal(a.KeyPlace(), text)
	case in.Certificate != "":
		list, err := certificate.ParsePEM(in.Certificate)
		if err != nil {
			return "", faulty("certificate", err.Error(), "Give it in PEM form.")
		}
		key, err := certificate.ParseKey(in.Key)
		if err != nil {
			return "", faulty("key", err.Error(), "Give the private key of the authority, in PEM form.")
		}
		pair, err := certificate.Pair(list, key)
		if err != nil {
			return "", faulty("key", err.Error(), "Give the key that belongs to the certificate.")
		}
		if !pair.Leaf.IsCA {
			return "", faulty("certificate", "this is no authority: it may not sign certificates",
				"Import it as a server certificate, or give the authority.")
		}
		text, err := certificate.KeyPEM(key)
		if err != nil {
			return "", err
		}
		a.Certificate, a.Key = certificate.PEM(pair.Leaf), s.Box.Seal(a.KeyPlace(), text)
	}
	return "", nil
}

func newKey(kind string) (crypto.Signer, string, error) {
	key, err := certificate.NewKey(kind)
	if err != nil {
		return nil, "", faulty("make.key", err.Error(), "Use p256 or rsa2048.")
	}
	text, err := certificate.KeyPEM(key)
	return key, text, err
}

func days(wanted, usual int) time.Duration {
	if wanted <= 0 {
		wanted = usual
	}
	return time.Duration(wanted) * day
}

func orElse(text, other string) string {
	if text = strings.TrimSpace(text); text != "" {
		return text
	}
	return strings.TrimSpace(other)
}

// signer opens the authority of a configuration.
func (s *server) signer(c *config.Config, ref string) (*config.Authority, *x509.Certificate, crypto.Signer, error) {
	a, at := config.Find(c.Authorities, ref)
	if at < 0 {
		return nil, nil, nil, faulty("authority", fmt.Sprintf("there is no authority %q", ref),
			"Choose one of the authorities.")
	}
	text, err := s.Box.Open(a.KeyPlace(), a.Key)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the key of authority %s: %w", a.Name, err)
	}
	key, err := certificate.ParseKey(text)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the key of authority %s: %w", a.Name, err)
	}
	list, err := certificate.ParsePEM(a.Certificate)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("authority %s: %w", a.Name, err)
	}
	return a, list[0], key, nil
}

func (s *server) applyCertificate(c *config.Config, target *config.Certificate, in *apitype.CertificateInput) (string,
	error) {
	target.Name, target.Note = in.Name, in.Note
	switch {
	case in.Make != nil:
		return "", s.makeServer(c, target, in)
	case len(in.PKCS12) > 0:
		key, chain, err := certificate.ReadPKCS12(in.PKCS12, in.Password)
		if err != nil {
			return "", faulty("pkcs12", err.Error(), "Look at the file and its password.")
		}
		return "", s.keepServer(target, chain, key)
	case in.Chain != "":
		chain, err := certificate.ParsePEM(in.Chain)
		if err != nil {
			return "", faulty("chain", err.Error(), "Give it in PEM form.")
		}
		text := in.Key
		if text == "" {
			if !target.Key.Set() {
				return "", faulty("key", "there is no private key", "Give the key that belongs to the certificate.")
			}
			if text, err = s.Box.Open(target.KeyPlace(), target.Key); err != nil {
				return "", err
			}
		}
		key, err := certificate.ParseKey(text)
		if err != nil {
			return "", faulty("key", err.Error(), "Give the private key in PEM form.")
		}
		return "", s.keepServer(target, chain, key)
	}
	return "", nil
}

// makeServer makes a new key with a certificate or a signing request. It proves us to remote servers and devices too,
// where we connect to them.
func (s *server) makeServer(c *config.Config, target *config.Certificate, in *apitype.CertificateInput) error {
	key, text, err := newKey(in.Make.Key)
	if err != nil {
		return err
	}
	now := time.Now()
	names := cleaned(in.Make.Names)
	subject := certificate.Subject{Name: orElse(in.Make.Subject, orElse(strings.Join(names[:min(1, len(names))], ""),
		in.Name)), DNS: names, Server: true, Client: true, From: now.Add(-time.Hour),
		Until: now.Add(days(in.Make.Days, serverDays))}
	if len(subject.DNS) == 0 && strings.Contains(subject.Name, ".") {
		subject.DNS = []string{subject.Name}
	}
	if len(subject.DNS) == 0 {
		return faulty("make.names", "a server certificate without a DNS name is refused by most devices",
			"Give the name that devices expect, such as radius.lanternferries.example.")
	}
	if in.Authority == "" {
		request, err := certificate.Request(subject, key)
		if err != nil {
			return faulty("make.names", err.Error(), "Correct the names.")
		}
		target.Request, target.Key, target.Chain = request, s.Box.Seal(target.KeyPlace(), text), ""
		return nil
	}
	_, authority, signer, err := s.signer(c, in.Authority)
	if err != nil {
		return err
	}
	cert, err := certificate.Issue(authority, signer, subject, key.Public())
	if err != nil {
		return faulty("make.names", err.Error(), "Correct the names.")
	}
	target.Chain, target.Request, target.Key = certificate.PEM(cert, authority), "", s.Box.Seal(target.KeyPlace(), text)
	return nil
}

func cleaned(list []string) []string {
	out := []string{}
	for _, text := range list {
		if text = strings.TrimSpace(text); text != "" && !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return out
}

// keepServer keeps an imported certificate, the leaf first.
func (s *server) keepServer(target *config.Certificate, chain []*x509.Certificate, key crypto.Signer) error {
	pair, err := certificate.Pair(chain, key)
	if err != nil {
		return faulty("chain", err.Error(), "Give the certificate that belongs to the key.")
	}
	if pair.Leaf.IsCA {
		return faulty("chain", "this is the certificate of an authority, not of a server", "Import it as an authority.")
	}
	text, err := certificate.KeyPEM(key)
	if err != nil {
		return err
	}
	ordered := []*x509.Certificate{pair.Leaf}
	for _, c := range chain {
		if c != pair.Leaf {
			ordered = append(ordered, c)
		}
	}
	target.Chain, target.Request, target.Key = certificate.PEM(ordered...), "", s.Box.Seal(target.KeyPlace(), text)
	return nil
}

func (s *server) authorityView(a *config.Authority, m apitype.Meta) apitype.Authority {
	out := apitype.Authority{Meta: m, Name: a.Name, Note: a.Note, PEM: a.Certificate,
		Issued: len(s.Gate.Issued.List(a.ID))}
	if list, err := certificate.ParsePEM(a.Certificate); err == nil {
		out.Info, out.Days = certificate.Describe(list[0]), attention.DaysLeft(list[0].NotAfter, time.Now())
	}
	return out
}

func certificateView(c *config.Config) func(*config.Certificate, apitype.Meta) apitype.ServerCertificate {
	return func(t *config.Certificate, m apitype.Meta) apitype.ServerCertificate {
		out := apitype.ServerCertificate{Meta: m, Name: t.Name, Note: t.Note, PEM: t.Chain, Request: t.Request,
			Chain: []results.Certificate{}, UsedBy: []string{}}
		if list, err := certificate.ParsePEM(t.Chain); err == nil {
			for _, cert := range list {
				out.Chain = append(out.Chain, certificate.Describe(cert))
			}
			out.Days = attention.DaysLeft(list[0].NotAfter, time.Now())
		}
		for i := range c.Lanes {
			if name := serverOf(c, c.Lanes[i]); strings.EqualFold(name, t.Name) {
				out.UsedBy = append(out.UsedBy, c.Lanes[i].Name)
			}
		}
		return out
	}
}

// serverOf is the certificate that a lane shows, "" if none of its methods needs one.
func serverOf(c *config.Config, l *config.Lane) string {
	if !slices.ContainsFunc(l.Methods, func(name string) bool {
		m := config.FindMethod(name)
		return m != nil && m.TLS
	}) {
		return ""
	}
	if l.TLS.Certificate == "" && len(c.Certificates) > 0 {
		return c.Certificates[0].Name
	}
	return l.TLS.Certificate
}

func trustView(c *config.Config) func(*config.Trust, apitype.Meta) apitype.Trust {
	return func(t *config.Trust, m apitype.Meta) apitype.Trust {
		out := apitype.Trust{Meta: m, Infos: []results.Certificate{}, UsedBy: []string{},
			TrustFields: apitype.TrustFields{Name: t.Name, Authorities: t.Authorities, PEM: t.PEM,
				Identity: t.Identity, CRLs: t.CRLs,
				Listed: t.Listed, OCSP: t.OCSP, Responder: t.Responder, Unanswered: t.Unanswered, Note: t.Note}}
		text := t.PEM
		for _, name := range t.Authorities {
			if a, at := config.Find(c.Authorities, name); at >= 0 {
				text += "\n" + a.Certificate
			}
		}
		if list, err := certificate.ParsePEM(text); err == nil {
			for _, cert := range list {
				out.Infos = append(out.Infos, certificate.Describe(cert))
			}
		}
		for i := range c.Lanes {
			l := c.Lanes[i]
			if strings.EqualFold(l.TLS.Trust, t.Name) || l.TLS.Trust == "" && len(c.Trusts) == 1 &&
				serverOf(c, l) != "" {
				out.UsedBy = append(out.UsedBy, l.Name)
			}
		}
		return out
	}
}
