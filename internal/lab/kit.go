package lab

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// ServerName is the name in the demo's server certificates.
const ServerName = "radius." + Domain

// Kit is what the demo's devices are set up with: what they trust, and their certificates.
type Kit struct {
	Roots *x509.CertPool
	// Wrong is the authority that one laptop trusts instead.
	Wrong *x509.CertPool
	// People are client certificates by name; Expired and Revoked those of two laptops.
	People           map[string]*tls.Certificate
	Expired, Revoked *tls.Certificate
	// Computers are the certificates of the office computers, in order.
	Computers []*tls.Certificate
	// Firewall is what hh-firewall-1 proves itself with.
	Firewall *tls.Certificate
	// Ship is what osprey-switch-1 proves itself with.
	Ship *tls.Certificate
	// ExpiredOf and RevokedOf are whose laptops these are.
	ExpiredOf, RevokedOf Person
}

// tlsPeople is how many people have a certificate.
const tlsPeople = 14

// Outfit issues what the devices of the demo need, and makes the older authority from which the expired certificate is.
func Outfit(ctx context.Context, c *client.Client) (*Kit, error) {
	k := &Kit{Roots: x509.NewCertPool(), Wrong: x509.NewCertPool(), People: map[string]*tls.Certificate{}}
	var authority apitype.Authority
	if err := c.Do(ctx, http.MethodGet, "/authorities/"+authorityName, nil, &authority); err != nil {
		return nil, fmt.Errorf("reading the authority of the demo: %w", err)
	}
	k.Roots.AppendCertsFromPEM([]byte(authority.PEM))
	people := People()
	for _, p := range people[:tlsPeople] {
		issued, err := issue(ctx, c, apitype.IssueInput{UPN: p.User + "@" + Domain})
		if err != nil {
			return nil, err
		}
		k.People[p.User] = issued.cert
	}
	for i := range computers {
		issued, err := issue(ctx, c, apitype.IssueInput{Make: apitype.Make{Names: []string{computerName(i) + "." +
			Domain}}})
		if err != nil {
			return nil, err
		}
		k.Computers = append(k.Computers, issued.cert)
	}
	firewall, err := issue(ctx, c, apitype.IssueInput{Make: apitype.Make{Names: []string{firewallName}}})
	if err != nil {
		return nil, err
	}
	k.Firewall = firewall.cert
	ship, err := issue(ctx, c, apitype.IssueInput{Make: apitype.Make{Names: []string{shipProof}}})
	if err != nil {
		return nil, err
	}
	k.Ship = ship.cert
	k.RevokedOf, k.ExpiredOf = people[30], people[31]
	gone, err := issue(ctx, c, apitype.IssueInput{UPN: k.RevokedOf.User + "@" + Domain})
	if err != nil {
		return nil, err
	}
	if err := c.Do(ctx, http.MethodPost, "/issued/"+gone.id+"/revoke", nil, nil); err != nil {
		return nil, fmt.Errorf("revoking a certificate: %w", err)
	}
	k.Revoked = gone.cert
	old, err := k.older()
	if err != nil {
		return nil, err
	}
	var trust apitype.Trust
	if err := c.Do(ctx, http.MethodGet, "/trusts/"+trustName, nil, &trust); err != nil {
		return nil, err
	}
	trust.PEM, trust.Listed = old, true
	if err := c.Do(ctx, http.MethodPut, "/trusts/"+trust.ID+"?publish=true&note=The+older+authority+still+has+devices",
		trust.TrustFields, nil, client.IfMatch("*")); err != nil {
		return nil, fmt.Errorf("trusting the older authority: %w", err)
	}
	return k, nil
}

type issued struct {
	id   string
	cert *tls.Certificate
}

func issue(ctx context.Context, c *client.Client, in apitype.IssueInput) (issued, error) {
	var out apitype.NewlyIssued
	if err := c.Do(ctx, http.MethodPost, "/authorities/"+authorityName+"/issue", in, &out); err != nil {
		return issued{}, fmt.Errorf("issuing a certificate to %s%v: %w", in.UPN, in.Names, err)
	}
	pair, err := tls.X509KeyPair([]byte(out.Chain), []byte(out.Key))
	return issued{out.Certificate.ID, &pair}, err
}

// older makes the authority that came before, and a certificate of it that ran out; it returns the authority as PEM.
func (k *Kit) older() (string, error) {
	key, err := certificate.NewKey(certificate.P256)
	if err != nil {
		return "", err
	}
	now := time.Now()
	authority, err := certificate.NewAuthority("Lantern Ferries Network Authority 2021", key, now.AddDate(-5, 0, 0),
		now.AddDate(2, 0, 0))
	if err != nil {
		return "", err
	}
	mine, err := certificate.NewKey(certificate.P256)
	if err != nil {
		return "", err
	}
	name := k.ExpiredOf.User + "@" + Domain
	cert, err := certificate.Issue(authority, key, certificate.Subject{Name: name, UPN: []string{name}, Client: true,
		From: now.AddDate(-1, 0, 0), Until: now.AddDate(0, 0, -3)}, mine.Public())
	if err != nil {
		return "", err
	}
	k.Expired = &tls.Certificate{Certificate: [][]byte{cert.Raw}, PrivateKey: mine}
	k.Wrong.AddCert(authority)
	return certificate.PEM(authority), nil
}

const (
	shipsDomain   = "ships." + Domain
	authorityName = "Lantern Network"
	trustName     = "laptops"
)

// certificates gives the demo an authority, server certificates and a trust list.
func (s *setup) certificates() {
	s.add("/authorities", apitype.AuthorityInput{Name: authorityName,
		Make: &apitype.Make{Subject: "Lantern Ferries Network Authority"}})
	s.add("/certificates", apitype.CertificateInput{Name: "radius", Authority: authorityName,
		Make: &apitype.Make{Subject: ServerName, Names: []string{ServerName}}})
	s.add("/certificates", apitype.CertificateInput{Name: "radius-wlan", Authority: authorityName,
		Make: &apitype.Make{Subject: ServerName, Names: []string{ServerName}, Days: 38},
		Note: "Renew with the summer timetable."})
	s.add("/trusts", apitype.TrustFields{Name: trustName, Authorities: []string{authorityName},
		Identity: []string{"upn", "dns"}, Unanswered: config.TakeUnanswered})
}

// knownDevices are the printers and kiosks of the piers.
func (s *setup) knownDevices() {
	past := time.Date(2026, 9, 30, 0, 0, 0, 0, time.UTC)
	for i, d := range []apitype.DeviceFields{
		{Name: "Ticket printer 1", Owner: "Ticketing", Tags: map[string]string{"kind": "printer",
			"site": "north-pier"}},
		{Name: "Ticket printer 2", Owner: "Ticketing", Tags: map[string]string{"kind": "printer",
			"site": "north-pier"}},
		{Name: "Office copier", Owner: "Harbour Office", Tags: map[string]string{"kind": "printer",
			"site": "harbour-house"}},
		{Name: "Timetable kiosk", Owner: "Ticketing", Tags: map[string]string{"kind": "kiosk", "site": "south-pier"}},
		{Name: "Gangway camera", Owner: "Port Operations", Tags: map[string]string{"kind": "camera", "site": "heron"}},
		{Name: "Lent projector", Owner: "Contractors", Tags: map[string]string{"kind": "printer"}, Expires: &past},
	} {
		d.Match, d.Enabled = printerMAC(i), true
		s.add("/devices", d)
	}
	s.add("/devices", apitype.DeviceFields{Match: "02-00-5E-77-*", Name: "Turnstiles", Owner: "Port Operations",
		Tags: map[string]string{"kind": "kiosk"}, Enabled: true, Note: "All of the north pier's."})
}

func printerMAC(i int) string { return fmt.Sprintf("02-00-5E-80-00-%02X", i+1) }

// crew are local accounts of the ships, whose NT hash is kept so that they can use PEAP and the VPN.
var crew = []struct{ user, name string }{{"g.bosun", "Bosun, MV Gannet"}, {"g.purser", "Purser, MV Gannet"},
	{"h.bosun", "Bosun, MV Heron"}, {"h.purser", "Purser, MV Heron"}, {"relief.master", "Relief master"}}

func crewPassword(user string) string { return "halyard-" + user }
