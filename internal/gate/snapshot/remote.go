package snapshot

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/upstream"
)

// Remote is a remote server in use with what it was made of, so that the next snapshot can tell whether to keep it.
type Remote struct {
	*upstream.Server
	made string
}

// openRemotes opens the remote servers of the configuration. Those that did not change are kept, with their connections
// and with what is known of their health.
func (s *Snapshot) openRemotes(box *seal.Box, before *Snapshot) error {
	s.remotes = make(map[string]*Remote, len(s.Plan.Config.Remotes))
	for _, r := range s.Plan.Config.Remotes {
		key := strings.ToLower(r.Name)
		made := s.madeOf(r)
		if before != nil {
			if old := before.remotes[key]; old != nil && old.made == made {
				s.remotes[key] = old
				continue
			}
		}
		settings, err := s.remoteSettings(r, box)
		if err != nil {
			return err
		}
		s.remotes[key] = &Remote{upstream.Open(settings), made}
	}
	return nil
}

// madeOf is everything that a remote server in use depends on.
func (s *Snapshot) madeOf(r *config.Remote) string {
	own := *r
	own.ID, own.Note, own.Pass, own.Grants = "", "", "", nil
	chain := ""
	if c, at := config.Find(s.Plan.Config.Certificates, r.Certificate); at >= 0 {
		chain = c.Chain
	}
	text, _ := json.Marshal([]any{own, chain, r.ID, s.Plan.Config.Vendors})
	return string(text)
}

func (s *Snapshot) remoteSettings(r *config.Remote, box *seal.Box) (upstream.Settings, error) {
	out := upstream.Settings{Name: r.Name, Weighted: r.Weighted, Timeout: time.Duration(r.TimeoutMillis) *
		time.Millisecond, Tries: r.Tries, Unsigned: r.Unsigned, Dead: time.Duration(r.DeadSeconds) * time.Second,
		Probe: time.Duration(r.ProbeSeconds) * time.Second}
	for _, one := range r.Servers {
		at, err := netip.ParseAddrPort(one.Address)
		if err != nil {
			return out, fmt.Errorf("the address of remote server %s: %w", r.Name, err)
		}
		out.Members = append(out.Members, upstream.Settled{Address: at, Weight: max(1, one.Weight),
			Accounting: netip.AddrPortFrom(at.Addr(), uint16(r.AccountingPort))})
	}
	if r.Secured() {
		out.Datagrams = r.Transport == config.OverDTLS
		out.TLS = &tls.Config{ServerName: r.ServerName}
		if r.CA != "" {
			out.TLS.RootCAs = x509.NewCertPool()
			out.TLS.RootCAs.AppendCertsFromPEM([]byte(r.CA))
		}
		own, at := config.Find(s.Plan.Config.Certificates, r.Certificate)
		if at < 0 {
			return out, fmt.Errorf("the certificate of this server for remote server %s: there is no %q", r.Name,
				r.Certificate)
		}
		pair, err := openServer(own, box)
		if err != nil || pair == nil {
			return out, fmt.Errorf("certificate %s for remote server %s cannot be used: %v", r.Certificate, r.Name, err)
		}
		out.TLS.Certificates = []tls.Certificate{*pair}
	} else {
		secret, err := box.Open(r.SecretPlace(), r.Secret)
		if err != nil {
			return out, fmt.Errorf("the secret of remote server %s: %w", r.Name, err)
		}
		out.Secret = secret
	}
	if rules := &s.Plan.GrantsOf(r.Name).Request; !rules.Empty() {
		out.Rules.Request = rules.Apply
		for _, a := range rules.Added {
			out.Rules.Add = append(out.Rules.Add, upstream.Attribute{Type: a.Type, Value: a.Value})
		}
	}
	return out, nil
}

// MadeOfFeed is everything that a feed in use depends on.
func (s *Snapshot) MadeOfFeed(f *config.Feed) string {
	own, chain := *f, ""
	own.Note = ""
	if c, at := config.Find(s.Plan.Config.Certificates, f.Certificate); at >= 0 && f.Certificate != "" {
		chain = c.Chain
	}
	text, _ := json.Marshal([]any{own, chain})
	return string(text)
}

// OwnCertificate is one of our certificates by name, nil if there is none.
func (s *Snapshot) OwnCertificate(name string) *tls.Certificate {
	return s.servers[strings.ToLower(name)]
}

// Silent reports whether a remote server in use did not answer lately.
func (s *Snapshot) Silent(name string, now time.Time) bool {
	server := s.Remote(name)
	return server != nil && server.Silent(now)
}

// Remote returns a remote server by name, nil if there is none.
func (s *Snapshot) Remote(name string) *upstream.Server {
	if r := s.remotes[strings.ToLower(name)]; r != nil {
		return r.Server
	}
	return nil
}
