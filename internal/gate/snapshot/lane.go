package snapshot

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/identity/certificate"
)

// Lane is what a lane needs for EAP, made ready once.
type Lane struct {
	Settings server.Settings
	// Bypass is for devices that do EAP-MD5 with their MAC address.
	Bypass server.Settings
	// Trust is the trust list for certificates of peers, nil for none.
	Trust *certificate.Trust
}

// openLanes opens certificates, keys and trust lists, and joins them with the lanes that use them.
func (s *Snapshot) openLanes(m *Maker) error {
	c := s.Plan.Config
	servers := map[string]*tls.Certificate{}
	s.servers = servers
	for i := range c.Certificates {
		pair, err := openServer(c.Certificates[i], m.Box)
		if err != nil {
			return fmt.Errorf("certificate %s: %w", c.Certificates[i].Name, err)
		}
		servers[strings.ToLower(c.Certificates[i].Name)] = pair
	}
	trusts := map[string]*certificate.Trust{}
	s.trusts = trusts
	for i := range c.Trusts {
		trust, err := openTrust(c.Trusts[i], c, m.Issued)
		if err != nil {
			return fmt.Errorf("trust list %s: %w", c.Trusts[i].Name, err)
		}
		trust.Checker = m.Checker
		trusts[strings.ToLower(trust.Name)] = trust
	}
	s.lanes = make([]Lane, len(c.Lanes))
	for i := range c.Lanes {
		lane, ready := c.Lanes[i], &s.lanes[i]
		ready.Trust = s.trust(lane.TLS.Trust)
		shown, name := servers[strings.ToLower(lane.TLS.Certificate)], lane.TLS.Certificate
		for j := range c.Certificates {
			if lane.TLS.Certificate == "" && shown == nil {
				name = c.Certificates[j].Name
				shown = servers[strings.ToLower(name)]
			}
		}
		ready.Settings = laneSettings(lane, shown, name, ready.Trust)
		ready.Bypass = server.Settings{Methods: []string{"mac"}}
	}
	return nil
}

// trust is the trust list that a name stands for, nil for none.
func (s *Snapshot) trust(name string) *certificate.Trust {
	if t := s.Plan.Config.TrustList(name); t != nil {
		return s.trusts[strings.ToLower(t.Name)]
	}
	return nil
}

// openServer opens a server certificate; nil if it still waits to be signed.
func openServer(c *config.Certificate, box *seal.Box) (*tls.Certificate, error) {
	if c.Chain == "" {
		return nil, nil
	}
	text, err := box.Open(c.KeyPlace(), c.Key)
	if err != nil {
		return nil, err
	}
	key, err := certificate.ParseKey(text)
	if err != nil {
		return nil, err
	}
	chain, err := certificate.ParsePEM(c.Chain)
	if err != nil {
		return nil, err
	}
	return certificate.Pair(chain, key)
}

func openTrust(t *config.Trust, c *config.Config, issued *certificate.Issued) (*certificate.Trust, error) {
	out := &certificate.Trust{Name: t.Name, Sources: t.Identity, CRLs: t.CRLs, Listed: t.Listed, OCSP: t.OCSP,
		Responder: t.Responder, Hard: t.Unanswered != config.TakeUnanswered}
	ours := map[string]string{} // the octets of an authority's certificate -> its identifier
	for _, name := range t.Authorities {
		authority, at := config.Find(c.Authorities, name)
		if at < 0 {
			continue
		}
		list, err := certificate.ParsePEM(authority.Certificate)
		if err != nil {
			return nil, err
		}
		out.Roots = append(out.Roots, list[0])
		ours[string(list[0].Raw)] = authority.ID
	}
	if t.PEM != "" {
		list, err := certificate.ParsePEM(t.PEM)
		if err != nil {
			return nil, err
		}
		out.Roots = append(out.Roots, list...)
	}
	out.Revoked = func(issuer *x509.Certificate, serial string) (bool, bool, time.Time) {
		id, ok := ours[string(issuer.Raw)]
		if !ok || issued == nil {
			return false, false, time.Time{}
		}
		return issued.Revoked(id, serial)
	}
	out.Pool() // made now, while nobody else uses it
	return out, nil
}

var versions = map[string]uint16{"1.0": tls.VersionTLS10, "1.1": tls.VersionTLS11, "1.2": tls.VersionTLS12,
	"1.3": tls.VersionTLS13}

func laneSettings(lane *config.Lane, shown *tls.Certificate, name string, trust *certificate.Trust) server.Settings {
	s := server.Settings{WithoutEMS: slices.Contains(lane.TLS.Older, config.NoExtendedMasterSecret),
		Binding: lane.TLS.Binding, Resume: time.Duration(lane.TLS.ResumeMinutes) * time.Minute,
		Scope: lane.ID, Machine: lane.TLS.Prove, Authority: "tollgate"}
	for _, m := range lane.Methods {
		if method := config.FindMethod(m); method != nil && method.EAP {
			s.Methods = append(s.Methods, m)
		}
	}
	if shown == nil {
		return s
	}
	s.ServerName = name + " (" + shown.Leaf.Subject.String() + ")"
	s.TLS = &tls.Config{Certificates: []tls.Certificate{*shown}, MinVersion: versions[lane.TLS.Minimum]}
	if s.TLS.MinVersion == 0 {
		s.TLS.MinVersion = tls.VersionTLS12
	}
	if slices.Contains(lane.TLS.Older, config.OldCiphers) {
		for _, suite := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
			if !strings.Contains(suite.Name, "RC4") && !strings.Contains(suite.Name, "3DES") {
				s.TLS.CipherSuites = append(s.TLS.CipherSuites, suite.ID)
			}
		}
	}
	if trust != nil {
		s.TLS.ClientCAs = trust.Pool() // named in the request, so that devices find the right certificate
	}
	return s
}

// Lane returns what a lane of the plan needs for EAP, by its number from 1.
func (s *Snapshot) Lane(number int) *Lane { return &s.lanes[number-1] }
