package snapshot

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
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

// ClientTLS is how to connect to a client over TLS, nil if nothing would prove it. It has to show a certificate with
// one of its names, which its trust list accepts.
func (s *Snapshot) ClientTLS(c *config.Client) *tls.Config {
	own, trust := s.TLSCertificate(c), s.TLSTrust(c)
	if own == nil || trust == nil || len(c.TLSNames) == 0 {
		return nil
	}
	return &tls.Config{Certificates: []tls.Certificate{*own}, MinVersion: tls.VersionTLS13,
		// The authorities are those of the trust list, and the purpose is that of a client: it is the device's only
		// certificate. VerifyConnection checks both, and the handshake that follows proves the key.
		InsecureSkipVerify: true,
		VerifyConnection: func(state tls.ConnectionState) error {
			if len(state.PeerCertificates) == 0 {
				return errors.New("the device shows no certificate")
			}
			leaf := state.PeerCertificates[0]
			if !slices.ContainsFunc(c.TLSNames, func(name string) bool { return leaf.VerifyHostname(name) == nil }) {
				return fmt.Errorf("the certificate (%s) carries none of the names of %s", leaf.Subject, c.Name)
			}
			ctx, cancel := context.WithTimeout(context.Background(), verifyTime)
			defer cancel()
			if v := trust.Verify(ctx, state.PeerCertificates, nil, time.Now()); v.Code != reason.OK {
				return fmt.Errorf("the certificate of %s is not accepted: %s %s", c.Name, v.Code, v.Detail)
			}
			return nil
		}}
}

// verifyTime is how long it may take to find out whether a certificate is revoked.
const verifyTime = 5 * time.Second

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
