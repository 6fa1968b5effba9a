package lab

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// The emergency account of Harbour House, whose password is known here only so that it can be tried.
const (
	EmergencyUser     = "harbour.emergency"
	EmergencyPassword = "break-glass-and-mooring-line"
	firewallName      = "hh-firewall-1." + Domain
)

// commandLists are what may be typed on the gear.
func (s *setup) commandLists() {
	line := func(text string) config.CommandLine {
		verdict, pattern, _ := strings.Cut(text, " ")
		return config.CommandLine{Verdict: config.CommandVerdict(verdict), Pattern: pattern}
	}
	for _, l := range []apitype.CommandListFields{
		{Name: "looking", Otherwise: "refuse",
			Lines: []config.CommandLine{line("refuse show running-config|startup-config *"), line("permit show *"),
				line("permit ping|traceroute *")}, Note: "Nothing that changes anything, and no secrets."},
		{Name: "operators", Extends: []string{"looking"},
			Lines: []config.CommandLine{line("permit configure terminal"), line("refuse interface eth0"),
				line("permit interface eth*"), line("permit shutdown"), line("permit no shutdown"),
				line("permit description *")},
			Note: "Ports may be switched, but for the way to the harbour."},
		{Name: "everything", Otherwise: "permit", Lines: []config.CommandLine{line("refuse reload *")},
			Note: "A reload is made from the console in the rack."},
	} {
		s.add("/command-lists", l)
	}
}

// firewall has hh-firewall-1 speak TACACS+ over TLS, proven by its certificate.
func (s *setup) firewall() {
	for _, d := range devices {
		if d.name == "hh-firewall-1" && s.err == nil {
			in := apitype.ClientInput{ClientFields: apitype.ClientFields{Name: d.name, Enabled: true,
				Addresses: []string{d.address}, MessageAuthenticator: d.mode, Tags: d.tags,
				TLSNames: []string{firewallName}, TLSCertificate: "radius", TLSTrust: trustName}}
			if err := s.c.Do(s.ctx, "PUT", "/clients/"+d.name, in, nil, client.IfMatch("*")); err != nil {
				s.err = fmt.Errorf("setting up the firewall: %w", err)
			}
		}
	}
}

// writeGear writes what the firewall proves itself with, so that somebody can sign in to it from another process.
func writeGear(dir string, kit *Kit, authority string) error {
	key, err := x509.MarshalPKCS8PrivateKey(kit.Firewall.PrivateKey)
	if err != nil {
		return err
	}
	var chain []byte
	for _, der := range kit.Firewall.Certificate {
		chain = append(chain, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	for name, text := range map[string][]byte{"hh-firewall-1.pem": chain,
		"hh-firewall-1.key": pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}),
		"authority.pem":     []byte(authority)} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			return fmt.Errorf("writing what the firewall proves itself with: %w", err)
		}
	}
	return nil
}

// Administrators sign in to the gear from time to time and type what they have to.
func Administrators(ctx context.Context, server, secure string, kit *Kit, every time.Duration) {
	r := rand.New(rand.NewPCG(11, 11))
	var team, port []Person
	for _, p := range People() {
		switch {
		case p.Condition == "" && slices.Contains(p.Groups, "Network Team"):
			team = append(team, p)
		case p.Condition == "" && slices.Contains(p.Groups, "Port Operations"):
			port = append(port, p)
		}
	}
	scripts := []struct {
		on    string
		by    []Person
		typed string
	}{
		{"hh-router-1", team, "show version;show interfaces eth1;enable;@;configure terminal;interface eth2;no " +
			"shutdown;exit;ping 198.51.100.9;exit"},
		{"hh-firewall-1", team, "show users;show running-config;enable;@;reload;exit"},
		{"np-switch-1", port, "show interfaces;configure terminal;interface eth0;interface eth2;description Gangway " +
			"camera;exit;show running-config;exit"},
		{"np-switch-1", team, "show clock;exit"},
		{"hh-core-1", team, "show interfaces;configure terminal;interface eth2;shutdown;exit;exit"},
		{"hh-router-1", port, "show interfaces;reload;enable 15;@;exit"},
	}
	for {
		script := scripts[r.IntN(len(scripts))]
		p := script.by[r.IntN(len(script.by))]
		password := p.Password()
		typed, tries := []string{p.User}, 1
		if r.IntN(6) == 0 {
			typed, tries = append(typed, "mistyped", p.User), 2
		}
		typed = append(typed, password)
		_, _, err := PhoneCode(p.User, time.Now())
		lost := script.on == "hh-core-1" && (err != nil || r.IntN(5) == 0)
		if lost { // whoever has no phone at hand types anything, and goes
			script.typed = ""
		}
		for _, line := range strings.Split(script.typed, ";") {
			if line == "@" {
				line = password
			}
			typed = append(typed, line)
		}
		if g, err := kit.gear(script.on, server, secure); err == nil {
			code := func() string {
				if lost {
					return "000000"
				}
				text, _, _ := PhoneCode(p.User, time.Now())
				return text
			}
			shell := Shell{Code: code, Tries: tries, Name: script.on, Kind: station(script.on).Kind, Gear: g,
				Out: io.Discard, From: fmt.Sprintf("192.0.2.%d", 130+r.IntN(20)),
				In: bufio.NewReader(strings.NewReader(strings.Join(typed, "\n") + "\n"))}
			_ = shell.Run(ctx) // what is refused shows in the console, which is the point
			g.Close()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
	}
}

// FirewallTLS is how the firewall asks.
func (k *Kit) FirewallTLS() *tls.Config {
	return &tls.Config{Certificates: []tls.Certificate{*k.Firewall}, RootCAs: k.Roots, ServerName: ServerName}
}

// certificatePEM is the demo's own authority, which the gear trusts.
func certificatePEM(ctx context.Context, c *client.Client) (string, error) {
	var authority apitype.Authority
	err := c.Do(ctx, "GET", "/authorities/"+authorityName, nil, &authority)
	return authority.PEM, err
}
