package directory

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

func present(c *x509.Certificate) results.Presented {
	sum := sha256.Sum256(c.Raw)
	out := results.Presented{Subject: c.Subject.String(), Issuer: c.Issuer.String(), Names: append([]string{},
		c.DNSNames...), NotAfter: c.NotAfter, Authority: c.IsCA,
		PEM: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))}
	for _, ip := range c.IPAddresses {
		out.Names = append(out.Names, ip.String())
	}
	parts := make([]string, len(sum))
	for i, octet := range sum {
		parts[i] = fmt.Sprintf("%02X", octet)
	}
	out.SHA256 = strings.Join(parts, ":")
	return out
}

// trust verifies what a server showed, and says what to compare if nobody vouches for it yet.
func (d *discovery) trust(server string, state *tls.ConnectionState) {
	for _, c := range state.PeerCertificates {
		d.Certificates = append(d.Certificates, present(c))
	}
	host, _, _ := net.SplitHostPort(server)
	d.step("trust", "Verify its certificate", server, func(s *results.Step) error {
		err := verify(state.PeerCertificates, d.cfg.CA, host)
		var name x509.HostnameError
		if errors.As(err, &name) && len(name.Certificate.DNSNames) > 0 {
			// Anybody can get a certificate for a name of his own from a public authority, so another name than was
			// typed is taken only from one that somebody has compared and trusted.
			d.ServerName = name.Certificate.DNSNames[0]
			if d.cfg.CA == "" {
				s.State = results.Warn
				s.Detail = fmt.Sprintf("it is for other names: %s", strings.Join(name.Certificate.DNSNames, ", "))
				s.Remedy = "Type one of these names if that is the server you mean, or compare its fingerprint and " +
					"trust the certificate."
				return nil
			}
			d.cfg.ServerName = d.ServerName
			err = verify(state.PeerCertificates, d.cfg.CA, d.ServerName)
		}
		leaf := state.PeerCertificates[0]
		if err == nil {
			d.Trusted = true
			s.Detail = fmt.Sprintf("%s until %s", subject(leaf.Subject.CommonName, leaf.DNSNames),
				leaf.NotAfter.Format("2006-01-02"))
			return nil
		}
		var unknown x509.UnknownAuthorityError
		if !errors.As(err, &unknown) {
			return err
		}
		last := d.Certificates[len(d.Certificates)-1]
		s.State = results.Warn
		s.Detail = fmt.Sprintf("issued by %s, which is not trusted yet; SHA-256 of %s is %s", leaf.Issuer,
			last.Subject, last.SHA256)
		s.Remedy = "Compare the fingerprint with what the administrator of the directory says, then trust it."
		if !last.Authority {
			s.Remedy += " It is the server's own certificate; that of its authority would outlast a renewal."
		}
		return nil
	})
}

// verify checks a chain against an authority, or those of the operating system, and a name.
func verify(chain []*x509.Certificate, ca, host string) error {
	options := x509.VerifyOptions{DNSName: host, Intermediates: x509.NewCertPool()}
	if ca != "" {
		options.Roots = x509.NewCertPool()
		options.Roots.AppendCertsFromPEM([]byte(ca))
	}
	for _, c := range chain[1:] {
		options.Intermediates.AddCert(c)
	}
	_, err := chain[0].Verify(options)
	return err
}

// look reads what the server tells to everybody, then tries the service account.
func (d *discovery) look(ctx context.Context, probe *Directory, server string) {
	ok := d.step("root", "Ask what it is", server, func(s *results.Step) error {
		c, err := probe.dial(ctx, server)
		if err != nil {
			return err
		}
		defer c.Close()
		r, err := readRoot(c)
		if err != nil {
			return err
		}
		d.take(r, s)
		return nil
	})
	if !ok || d.in.BindName == "" {
		return
	}
	d.step("bind", "Sign in with the service account", server, func(s *results.Step) error {
		switch {
		case d.in.Password == "":
			s.State, s.Detail = results.Warn, "not tried: no password was given"
			return nil
		case !d.Trusted:
			s.State, s.Detail, s.Remedy = results.Warn, "not tried: the server is not trusted yet, and would learn "+
				"the password", "Trust its certificate first."
			return nil
		case d.TLS == config.Plain:
			s.State, s.Detail, s.Remedy = results.Warn, "not tried: the password would cross the network in clear",
				"Take these settings, and test them there if that is meant."
			return nil
		}
		return d.signIn(ctx, server, s)
	})
}

// take notes what the rootDSE tells.
func (d *discovery) take(r root, s *results.Step) {
	d.Contexts = append(d.Contexts, r.contexts()...)
	d.Base = r.defaultContext()
	d.Domain = domainOf(d.Base)
	d.Kind = config.Generic
	what := "a directory"
	if r.activeDirectory() {
		d.Kind, what = config.ActiveDirectory, "of the Active Directory kind"
	}
	d.cfg.Kind = d.Kind
	if d.Name = d.Domain; d.Name == "" {
		d.Name = d.typed
	}
	s.Detail = fmt.Sprintf("%s, base %s", what, d.Base)
	if ahead, known := r.clock(time.Now()); known {
		if s.Detail += fmt.Sprintf(", its clock differs by %.1f s", ahead.Seconds()); ahead.Abs() > time.Minute {
			s.State, s.Remedy = results.Warn, "Set both clocks by the same time server: beyond five minutes domains "+
				"refuse everything."
		}
	}
}

// signIn binds once, in the form of the name that the kind of directory takes, and asks who that is (RFC 4532).
func (d *discovery) signIn(ctx context.Context, server string, s *results.Step) error {
	cfg := d.cfg
	cfg.BindName = d.in.BindName
	own, err := Open(cfg, d.in.Password)
	if err != nil {
		return err
	}
	defer own.Close()
	c, err := own.dial(ctx, server)
	if err != nil {
		return err
	}
	defer c.Close()
	name, err := own.bindName(c)
	if err != nil {
		return err
	}
	if err := c.Bind(name, d.in.Password); err != nil {
		return bindFailure(err, name)
	}
	d.Bound, d.BindName = true, name
	s.Detail = "as " + name
	if who, err := c.WhoAmI(nil); err == nil && who.AuthzID != "" {
		s.Detail += ", which is " + strings.TrimPrefix(strings.TrimPrefix(who.AuthzID, "u:"), "dn:")
	}
	if _, err := c.Search(ldap.NewSearchRequest(d.Base, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, own.seconds(),
		false, "(objectClass=*)", []string{"1.1"}, nil)); err != nil {
		s.State, s.Remedy = results.Warn, fmt.Sprintf("It may not read %s (%s); give it the right to, or choose "+
			"another base.", d.Base, message(err))
	}
	return nil
}
