package snapshot

import (
	"crypto/tls"
	"fmt"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/certificate"
)

// GearKeys are the opened TACACS+ secrets of one client; Current is nil if it has none.
type GearKeys struct {
	Current, Previous []byte
	Until             time.Time
}

// At are the keys that count at a moment, the current one first.
func (k *GearKeys) At(now time.Time) [][]byte {
	out := make([][]byte, 0, 2)
	if k.Current != nil {
		out = append(out, k.Current)
	}
	if k.Previous != nil && now.Before(k.Until) {
		out = append(out, k.Previous)
	}
	return out
}

// SpeaksGear reports whether a client may speak TACACS+ at all.
func SpeaksGear(c *config.Client) bool {
	return c.TACACSSecret.Set() || c.TACACSPlain || c.TACACSByAddress || len(c.TLSNames) > 0
}

// TLSClient finds the client that has one of the names in a certificate; nil if none has.
func (s *Snapshot) TLSClient(names []string) *config.Client {
	for _, name := range names {
		if client := s.tlsNames[strings.ToLower(name)]; client != nil {
			return client
		}
	}
	return nil
}

// NamesAnybody reports whether any client proves itself by a certificate.
func (s *Snapshot) NamesAnybody() bool { return len(s.tlsNames) > 0 }

// TLSCertificate is what a client is shown in TLS, nil if there is none; with no client, the first there is.
func (s *Snapshot) TLSCertificate(c *config.Client) *tls.Certificate {
	if c != nil && c.TLSCertificate != "" {
		return s.servers[strings.ToLower(c.TLSCertificate)]
	}
	for i := range s.Plan.Config.Certificates {
		if made := s.servers[strings.ToLower(s.Plan.Config.Certificates[i].Name)]; made != nil {
			return made
		}
	}
	return nil
}

// TLSTrust is the trust list by which the certificate of a client is checked, nil for none.
func (s *Snapshot) TLSTrust(c *config.Client) *certificate.Trust {
	return s.trust(c.TLSTrust)
}

// openGear opens the TACACS+ secrets of a client.
func openGear(c *config.Client, box *seal.Box) (keys GearKeys, err error) {
	for _, one := range []struct {
		from config.Secret
		to   *[]byte
	}{{c.TACACSSecret, &keys.Current}, {c.TACACSPrevious, &keys.Previous}} {
		if !one.from.Set() {
			continue
		}
		text, err := box.Open(c.TACACSPlace(), one.from)
		if err != nil {
			return keys, fmt.Errorf("the TACACS+ secret of client %s: %w", c.Name, err)
		}
		*one.to = []byte(text)
	}
	keys.Until = c.TACACSPreviousUntil
	return keys, nil
}
