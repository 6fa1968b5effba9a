package secure

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/netip"

	"github.com/pion/dtls/v3"

	"tollgate.example/key/internal/base/datagram"
	"tollgate.example/key/internal/gate"
)

// GreetDatagrams is Greet over DTLS. The datagrams of raw are all from one address and port.
func GreetDatagrams(ctx context.Context, g *gate.Gate, terms *Terms, raw net.PacketConn, from netip.AddrPort) (
	*dtls.Conn, *Peer, *Refused) {
	addr := from.Addr().Unmap().WithZone("")
	s := g.Current()
	client := s.Plan.Client(addr)
	cert := s.TLSCertificate(client)
	if cert == nil {
		return nil, nil, refuse(client, nothingToShow)
	}
	options := []dtls.ServerOption{dtls.WithCertificates(serve(cert)), dtls.WithClientAuth(dtls.RequestClientCert)}
	for _, o := range datagram.Options() {
		options = append(options, o)
	}
	conn, err := dtls.ServerWithOptions(raw, net.UDPAddrFromAddrPort(from), options...)
	if err != nil {
		return nil, nil, refuse(client, "the server certificate cannot be shown over DTLS: %v", err)
	}
	ctx, cancel := context.WithTimeout(ctx, handshakeTime)
	defer cancel()
	if err = conn.HandshakeContext(ctx); err != nil {
		conn.Close()
		return nil, nil, refuse(client, "%v", err)
	}
	var chain []*x509.Certificate
	state, _ := conn.ConnectionState()
	for _, der := range state.PeerCertificates {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			conn.Close()
			return nil, nil, refuse(client, "its certificate: %v", err)
		}
		chain = append(chain, c)
	}
	peer, refused := recognise(ctx, g, terms, addr, chain)
	if refused != nil {
		conn.Close()
		return nil, nil, refused
	}
	return conn, peer, nil
}

// serve is a certificate with nothing beside it that only TLS can send.
func serve(c *tls.Certificate) tls.Certificate {
	return tls.Certificate{Certificate: c.Certificate, PrivateKey: c.PrivateKey}
}
