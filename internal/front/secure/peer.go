// Package secure lets clients in over TLS, for RADIUS (RFC 6614, 9765) and TACACS+ (RFC 9887) alike: which certificate
// they are shown, which client theirs proves, whether it still does, and how many connections there may be.
package secure

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/netip"
	"time"

	"tollgate.example/key/internal/base/tlsversion"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
)

const (
	// handshakeTime is how long a TLS handshake may take.
	handshakeTime = 10 * time.Second
	// proofTime is for how long a certificate is taken for good without a second look.
	proofTime = 5 * time.Second
)

// Terms are what a protocol asks of its clients.
type Terms struct {
	// Protocol is its name in messages.
	Protocol string
	// Next are the names of its versions in TLS (RFC 7301), the best first; nil for none.
	Next []string
	// Speaks reports whether a client is set up for the protocol.
	Speaks func(*config.Client) bool
	// ByAddress reports whether a client may go without a certificate, by its address alone; nil for never.
	ByAddress func(*config.Client) bool
	// Within has a client with a certificate come from one of its addresses, too.
	Within bool
}

// Peer is who is at the other end of a connection. It is used by one goroutine at a time.
type Peer struct {
	gate  *gate.Gate
	terms *Terms
	addr  netip.Addr
	// names are those of the certificate that proved the client, nil if it is known by its address alone; chain is that
	// certificate, last looked at under a revision, at a moment.
	names  []string
	chain  []*x509.Certificate
	under  int
	proven time.Time
}

// Refused says why a connection has to end. Client is the identifier of whose it seems to be, "" if nobody's.
type Refused struct {
	Client string
	Fault  sources.Fault
	Detail string
}

// Greet lets a client in over TLS. The client is the one that its certificate names; one that shows no certificate is
// taken by its address only where the protocol and the client say so, since nothing else would prove it: there is no
// shared secret within TLS.
func Greet(ctx context.Context, g *gate.Gate, terms *Terms, raw net.Conn, addr netip.Addr) (*tls.Conn, *Peer,
	*Refused) {
	s := g.Current()
	client := s.Plan.Client(addr)
	cert := s.TLSCertificate(client)
	if cert == nil {
		return nil, nil, refuse(client, nothingToShow)
	}
	conn := tls.Server(raw, &tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS13,
		ClientAuth: tls.RequestClientCert, NextProtos: terms.Next, SessionTicketsDisabled: true})
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	if err := conn.HandshakeContext(ctx); err != nil {
		return nil, nil, refuse(client, "%s", tlsversion.Named(err))
	}
	peer, refused := recognise(ctx, g, terms, addr, conn.ConnectionState().PeerCertificates)
	if refused != nil {
		return nil, nil, refused
	}
	return conn, peer, nil
}

const nothingToShow = "there is no server certificate to show; make one under Certificates"

func refuse(client *config.Client, format string, args ...any) *Refused {
	r := &Refused{Fault: sources.TLSFailed, Detail: fmt.Sprintf(format, args...)}
	if client != nil {
		r.Client = client.ID
	}
	return r
}

// recognise finds the client at the other end of a connection, by the certificate that it has shown.
func recognise(ctx context.Context, g *gate.Gate, terms *Terms, addr netip.Addr, chain []*x509.Certificate) (*Peer,
	*Refused) {
	s := g.Current()
	client := s.Plan.Client(addr)
	peer := &Peer{gate: g, terms: terms, addr: addr}
	if len(chain) > 0 {
		peer.names, peer.chain = namesOf(chain[0]), chain
		if named := s.TLSClient(peer.names); named != nil {
			if detail := peer.proves(ctx, s, named); detail != "" {
				return nil, refuse(named, "%s", detail)
			}
			return peer, nil
		}
	}
	switch {
	case client == nil:
		r := refuse(nil, "%s over TLS: neither the address nor the certificate is that of a client", terms.Protocol)
		r.Fault = sources.UnknownClient
		return nil, r
	case !terms.Speaks(client):
		return nil, refuse(client, "%s is not set up for %s", client.Name, terms.Protocol)
	case len(client.TLSNames) > 0 && peer.chain == nil:
		return nil, refuse(client, "%s shows no certificate", client.Name)
	case len(client.TLSNames) > 0:
		return nil, refuse(client, "the certificate (%s) carries none of the names of %s", peer.chain[0].Subject,
			client.Name)
	case terms.ByAddress == nil:
		return nil, refuse(client, "%s proves itself by nothing: give it a certificate and its name in the client",
			client.Name)
	case !terms.ByAddress(client):
		return nil, refuse(client, "%s proves itself by nothing: give it a certificate and its name in the client, or "+
			"let the client be known by its address alone", client.Name)
	}
	peer.names, peer.chain = nil, nil
	return peer, nil
}

// namesOf are the names by which a certificate says whose it is.
func namesOf(c *x509.Certificate) []string {
	names := append([]string(nil), c.DNSNames...)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	return names
}

// Named reports whether a certificate proved the client.
func (p *Peer) Named() bool { return p.names != nil }

// Client is who the connection belongs to under what is in effect now, nil if nobody any more.
func (p *Peer) Client(s *snapshot.Snapshot) *config.Client {
	if p.names != nil {
		return s.TLSClient(p.names)
	}
	client := s.Plan.Client(p.addr)
	if client != nil && (p.terms.ByAddress == nil || !p.terms.ByAddress(client) || len(client.TLSNames) > 0) {
		return nil // since it was let in, the client has been told to prove itself
	}
	return client
}

// Refuses looks at the certificate again before something begins on the connection: under another configuration, and
// otherwise now and then, since it may have expired or been revoked while the connection was open. It says why the
// certificate no longer counts, "" if it does.
func (p *Peer) Refuses(ctx context.Context, s *snapshot.Snapshot, client *config.Client) string {
	if p.chain == nil || p.under == s.Revision && time.Since(p.proven) < proofTime {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	return p.proves(ctx, s, client)
}

// proves says why a certificate does not prove a client, "" if it does.
func (p *Peer) proves(ctx context.Context, s *snapshot.Snapshot, client *config.Client) string {
	trust := s.TLSTrust(client)
	if trust == nil {
		return "there is no trust list for the certificate of " + client.Name
	}
	if v := trust.Verify(ctx, p.chain, nil, time.Now()); v.Code != reason.OK {
		return fmt.Sprintf("the certificate of %s is not accepted: %s %s", client.Name, v.Code, v.Detail)
	}
	if p.terms.Within && !within(client, p.addr) {
		return fmt.Sprintf("the certificate of %s came from %s, which is none of its addresses: add that, or find "+
			"out who has its key", client.Name, p.addr)
	}
	p.under, p.proven = s.Revision, time.Now()
	return ""
}

func within(client *config.Client, addr netip.Addr) bool {
	for _, text := range client.Addresses {
		if prefix, err := config.ParsePrefix(text); err == nil && prefix.Contains(addr) {
			return true
		}
	}
	return false
}
