package directory

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/results"
)

// Search is what somebody knows of a directory before it is connected.
type Search struct {
	// Text is a host, an address, a URL, a domain, or a name@domain.
	Text string
	// DNS and Source are as in a directory.
	DNS, Source string
	// BindName and Password are tried once the server is trusted.
	BindName, Password string
	// CA is what is trusted already, PEM.
	CA      string
	Timeout time.Duration
}

const (
	maxCandidates = 12
	// proposed is how many servers are proposed; more only make a failure longer.
	proposed = 4
)

// discovery is one run.
type discovery struct {
	in Search
	results.Proposal
	cfg    config.Directory
	report func(results.Step)
	typed  string // what is left of the text: a host or a domain
	port   int
	modes  []config.TLSMode
}

// Discover finds the servers of a directory, the safest way to reach them, what they show of themselves, and tries the
// service account. It reports each step when it begins and when it ends, changes nothing, and sends a password only to
// a server that is trusted.
func Discover(ctx context.Context, in Search, report func(results.Step)) results.Proposal {
	if in.Timeout <= 0 {
		in.Timeout = 3 * time.Second
	}
	d := &discovery{in: in, report: report, cfg: config.Directory{TimeoutMillis: int(in.Timeout / time.Millisecond),
		DNS: in.DNS, Source: in.Source, CA: in.CA, Kind: config.Generic}}
	d.Proposal = results.Proposal{Servers: []string{}, Contexts: []string{}, Candidates: []results.Candidate{},
		Certificates: []results.Presented{}, DNS: in.DNS, Source: in.Source, BindName: in.BindName}
	if d.step("input", "Read what was typed", "", d.read) && d.find(ctx) && d.measure(ctx) {
		d.examine(ctx)
	}
	return d.Proposal
}

func (d *discovery) step(key, title, server string, do func(*results.Step) error) bool {
	return runStep(d.report, d.cfg.TLS, results.Step{Key: key, Title: title, Server: server}, do)
}

// read makes a host or domain of the text, with a port if one was given.
func (d *discovery) read(s *results.Step) error {
	text := strings.TrimSpace(d.in.Text)
	if at := strings.LastIndexByte(text, '@'); at >= 0 {
		text = text[at+1:]
	}
	d.modes = []config.TLSMode{config.LDAPS, config.StartTLS, config.Plain}
	lower := strings.ToLower(text)
	if rest, ok := strings.CutPrefix(lower, "ldaps://"); ok {
		lower, d.modes = rest, d.modes[:1]
	}
	lower = strings.TrimPrefix(lower, "ldap://")
	lower, _, _ = strings.Cut(lower, "/")
	lower = strings.TrimSuffix(strings.TrimSpace(lower), ".")
	if host, port, err := net.SplitHostPort(lower); err == nil {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 {
			return &Failure{Detail: fmt.Sprintf("%q is not a port", port),
				Remedy: "Leave the port out; the usual ones are tried."}
		}
		lower, d.port = host, n
	}
	lower = strings.Trim(lower, "[]")
	switch {
	case lower == "":
		return &Failure{Detail: "nothing was typed", Remedy: "Type the name of the domain, or the name or address of " +
			"one of its servers."}
	case strings.ContainsAny(lower, " ,;=()\\*") || len(lower) > 253:
		return &Failure{Detail: fmt.Sprintf("%q is neither a host nor a domain", text),
			Remedy: "Type a name such as lanternferries.example, or the address of a server."}
	}
	d.typed = lower
	s.Detail = lower
	if d.port != 0 {
		s.Detail += fmt.Sprintf(", port %d", d.port)
	}
	return nil
}

// find asks DNS which servers serve the domain (RFC 2782), and takes what was typed as a server otherwise.
func (d *discovery) find(ctx context.Context) bool {
	if net.ParseIP(d.typed) != nil || d.port != 0 {
		d.Candidates = []results.Candidate{{Host: d.typed, From: "as typed", Port: d.port}}
		return true
	}
	return d.step("srv", "Ask DNS for directory servers", d.DNS, func(s *results.Step) error {
		asked := d.typed
		found, err := d.services(ctx, asked)
		if len(found) == 0 {
			if _, parent, ok := strings.Cut(d.typed, "."); ok && strings.Contains(parent, ".") {
				if more, _ := d.services(ctx, parent); len(more) > 0 { // a server of that domain was typed
					found, asked = more, parent
					d.Candidates = append(d.Candidates, results.Candidate{Host: d.typed, From: "as typed"})
				}
			}
		}
		for _, c := range found {
			if len(d.Candidates) < maxCandidates && !slices.ContainsFunc(d.Candidates, func(o results.Candidate) bool {
				return o.Host == c.Host
			}) {
				d.Candidates = append(d.Candidates, c)
			}
		}
		if len(found) > 0 {
			s.Detail = fmt.Sprintf("%d for the domain %s", len(found), asked)
			return nil
		}
		d.Candidates = []results.Candidate{{Host: d.typed, From: "as typed"}}
		s.State, s.Detail, s.Remedy = results.Warn, "DNS names no directory servers for "+d.typed+
			", so it is taken for a server itself", "If it is a domain, give the address of its own DNS server; that "+
			"of this machine may not know it."
		var dns *net.DNSError
		if errors.As(err, &dns) && (dns.IsTimeout || dns.IsTemporary) {
			s.Detail = "DNS did not answer, so " + d.typed + " is taken for a server itself"
		}
		return nil
	})
}

// services lists the servers of a domain: its domain controllers, or else any directory server.
func (d *discovery) services(ctx context.Context, domain string) ([]results.Candidate, error) {
	ctx, cancel := context.WithTimeout(ctx, d.in.Timeout)
	defer cancel()
	for _, service := range []string{"dc._msdcs." + domain, domain} {
		records, err := dialer(&d.cfg).Names.Services(ctx, "_ldap._tcp."+service)
		if len(records) == 0 {
			if service == domain {
				return nil, err
			}
			continue
		}
		var out []results.Candidate
		for _, r := range records {
			out = append(out, results.Candidate{Host: r.Host, From: "DNS of " + domain, Port: r.Port})
		}
		return out, nil
	}
	return nil, nil
}

// measure tries all candidates at once, and ranks them by how soon they answer.
func (d *discovery) measure(ctx context.Context) bool {
	return d.step("answer", "See which answer", "", func(s *results.Step) error {
		var wait sync.WaitGroup
		for i := range d.Candidates {
			wait.Go(func() { d.try(ctx, &d.Candidates[i]) })
		}
		wait.Wait()
		slices.SortStableFunc(d.Candidates, func(a, b results.Candidate) int {
			if x, y := len(a.Ports) > 0, len(b.Ports) > 0; x != y {
				return map[bool]int{true: -1, false: 1}[x]
			}
			return int(a.Micros - b.Micros)
		})
		var said []string
		for _, c := range d.Candidates {
			if len(c.Ports) > 0 {
				said = append(said, fmt.Sprintf("%s after %.1f ms", c.Host, float64(c.Micros)/1000))
			} else {
				said, s.State = append(said, c.Problem), results.Warn
			}
		}
		s.Detail = strings.Join(said, "; ")
		if len(d.Candidates[0].Ports) == 0 {
			return &Failure{Connect: true, Detail: s.Detail, Remedy: "Check the name and the address, firewalls on " +
				"the way to ports 636 and 389, and the DNS server."}
		}
		return nil
	})
}

func (d *discovery) try(ctx context.Context, c *results.Candidate) {
	c.Ports = []int{}
	ports := []int{636, 389}
	if c.Port != 0 && c.Port != 389 && c.Port != 636 {
		ports = []int{c.Port}
	}
	for _, port := range ports {
		begun := time.Now()
		raw, err := dialer(&d.cfg).DialContext(ctx, "tcp", net.JoinHostPort(c.Host, strconv.Itoa(port)))
		if err != nil {
			c.Problem, _ = explain(err, config.LDAPS, net.JoinHostPort(c.Host, strconv.Itoa(port)))
			continue
		}
		raw.Close()
		if took := time.Since(begun).Microseconds(); c.Micros == 0 || took < c.Micros {
			c.Micros = took
		}
		c.Ports = append(c.Ports, port)
	}
}

// examine goes on with the first server that speaks the protocol in the safest way that any offers.
func (d *discovery) examine(ctx context.Context) {
	for _, mode := range d.modes {
		for i := range d.Candidates {
			for _, port := range d.Candidates[i].Ports {
				if port == 636 && mode != config.LDAPS || port == 389 && mode == config.LDAPS {
					continue
				}
				server := net.JoinHostPort(d.Candidates[i].Host, strconv.Itoa(port))
				if d.speaks(ctx, server, mode) {
					return
				}
			}
		}
	}
}

// modeTitles are what the steps are called.
var modeTitles = map[config.TLSMode]string{config.LDAPS: "Try ldaps", config.StartTLS: "Try starttls",
	config.Plain: "Try without encryption"}

// speaks tries one way to one server, and if it works looks at the rest.
func (d *discovery) speaks(ctx context.Context, server string, mode config.TLSMode) bool {
	d.cfg.TLS, d.cfg.Servers = mode, []string{server}
	probe, err := Open(d.cfg, "")
	if err != nil {
		d.step("tls", "Read the trusted authority", "", func(*results.Step) error {
			return &Failure{Detail: err.Error(), Remedy: "Paste the certificate with its BEGIN and END lines."}
		})
		return true
	}
	defer probe.Close()
	// looked at only: what it shows is verified next, and no password is sent before
	probe.tls.InsecureSkipVerify = true
	var state tls.ConnectionState
	worked := d.step(string(mode), modeTitles[mode], server, func(s *results.Step) error {
		c, err := probe.dial(ctx, server)
		if err == nil {
			defer c.Close()
			state, _ = c.TLSConnectionState()
			_, err = readRoot(c)
		}
		if err != nil {
			s.State = results.Warn
			s.Detail, _ = explain(err, mode, server)
			return nil
		}
		if s.Detail = "works"; mode == config.Plain {
			s.State, s.Detail, s.Remedy = results.Warn, "works, but passwords would cross the network in clear",
				"Give the directory server a certificate, and use ldaps or starttls."
		} else {
			s.Detail += ", " + tls.VersionName(state.Version)
		}
		d.TLS = mode
		return nil
	}) && d.TLS == mode
	if !worked {
		return false
	}
	d.propose(server)
	if d.Trusted = mode == config.Plain; mode != config.Plain {
		d.trust(server, &state)
	}
	d.look(ctx, probe, server)
	return true
}

// propose lists the servers that answer on the same port.
func (d *discovery) propose(server string) {
	_, port, _ := net.SplitHostPort(server)
	d.Servers = append(d.Servers, server)
	for _, c := range d.Candidates {
		other := net.JoinHostPort(c.Host, port)
		if n, _ := strconv.Atoi(port); slices.Contains(c.Ports, n) && !slices.Contains(d.Servers, other) &&
			len(d.Servers) < proposed {
			d.Servers = append(d.Servers, other)
		}
	}
	d.cfg.Servers = d.Servers
}
