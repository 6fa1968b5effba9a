package upstream

import (
	"context"
	"net"
	"net/netip"
	"time"

	"github.com/pion/dtls/v3"
	dtlsnet "github.com/pion/dtls/v3/pkg/net"

	"tollgate.example/key/internal/base/datagram"
	"tollgate.example/key/internal/wire/radius"
)

// resend is after how long a request over DTLS is sent again. The other side knows it again by its identifier.
const resend = time.Second

// datagrams sends and receives each packet in a datagram of its own (RFC 7360 section 5).
type datagrams struct{ conn *dtls.Conn }

// Send implements sender. What cannot be sent is as good as lost, and sent again.
func (d datagrams) Send(packet []byte) bool {
	d.conn.Write(packet)
	return true
}

// next returns a packet, and passes over what is none: the one after it does not depend on it.
func (d datagrams) next(buf []byte) ([]byte, error) {
	for {
		n, err := d.conn.Read(buf)
		if err != nil {
			return nil, err
		}
		if n < radius.HeaderSize {
			continue
		}
		if length, err := radius.Length(buf); err == nil && length <= n {
			return buf[:length], nil
		}
	}
}

// dialDTLS makes a DTLS connection.
func (l *Link) dialDTLS(ctx context.Context) (*dtls.Conn, error) {
	dialer := &net.Dialer{}
	if l.from.IsValid() {
		dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(l.from, 0))
	}
	socket, err := dialer.DialContext(ctx, "udp", l.address) // nobody else can send to it
	if err != nil {
		return nil, err
	}
	name := l.config.ServerName
	if name == "" {
		name, _, _ = net.SplitHostPort(l.address)
	}
	options := []dtls.ClientOption{dtls.WithServerName(name)}
	for _, o := range datagram.Options() {
		options = append(options, o)
	}
	if l.config.RootCAs != nil {
		options = append(options, dtls.WithRootCAs(l.config.RootCAs))
	}
	if own := l.config.Certificates; len(own) > 0 {
		options = append(options, dtls.WithCertificates(own...))
	}
	conn, err := dtls.ClientWithOptions(dtlsnet.PacketConnFromConn(socket), socket.RemoteAddr(), options...)
	if err != nil {
		socket.Close()
		return nil, err
	}
	if err = conn.HandshakeContext(ctx); err != nil {
		conn.Close()
		socket.Close()
		return nil, err
	}
	return conn, nil
}
