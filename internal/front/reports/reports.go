// Package reports receives what other systems report of who is where: copies of DHCP messages (RFC 2131) over UDP, and
// syslog over UDP (RFC 5426), TCP (RFC 6587) and TLS (RFC 5425). Nothing is answered. Only sources that the
// configuration names are heard, by the address that they send from.
package reports

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/netutil"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/presence"
	"tollgate.example/key/internal/wire/dhcp"
	"tollgate.example/key/internal/wire/syslog"
)

const (
	// maxConnections bounds the streams that are open at once, idle is how long one may be silent.
	maxConnections = 200
	idle           = 30 * time.Minute
	handshake      = 10 * time.Second
)

// Options say where to listen; empty lists listen nowhere.
type Options struct {
	DHCP, UDP, TCP, TLS []string
	// Secure is how TLS is spoken.
	Secure *tls.Config
	Keeper *presence.Keeper
	// Catch runs something and catches a fault of ours.
	Catch func(run func())
}

// Server receives reports until it is closed.
type Server struct {
	o         Options
	packets   []net.PacketConn
	listeners []net.Listener
	mu        sync.Mutex
	streams   map[net.Conn]bool
	closed    bool
	done      sync.WaitGroup
}

// Serve opens the sockets and receives.
func Serve(o Options) (*Server, error) {
	s := &Server{o: o, streams: map[net.Conn]bool{}}
	for _, one := range []struct {
		what string
		at   []string
		take func([]byte, netip.Addr)
	}{{"DHCP", o.DHCP, s.dhcp}, {"syslog", o.UDP, s.datagram}} {
		for _, at := range one.at {
			c, err := net.ListenPacket("udp", at)
			if err != nil {
				s.Close()
				return nil, fmt.Errorf("listening for %s on %s: %w", one.what, at, err)
			}
			s.packets = append(s.packets, c)
			s.done.Go(func() { s.receive(c, one.take) })
		}
	}
	for _, over := range []struct {
		at  []string
		tls bool
	}{{o.TCP, false}, {o.TLS, true}} {
		for _, at := range over.at {
			l, err := net.Listen("tcp", at)
			if err != nil {
				s.Close()
				return nil, fmt.Errorf("listening for syslog on %s: %w", at, err)
			}
			l = netutil.LimitListener(l, maxConnections)
			s.listeners = append(s.listeners, l)
			s.done.Go(func() { s.accept(l, over.tls) })
		}
	}
	return s, nil
}

// Addresses are those at which it listens: for datagrams, in the order of the options, then for streams.
func (s *Server) Addresses() (out []netip.AddrPort) {
	for _, c := range s.packets {
		out = append(out, c.LocalAddr().(*net.UDPAddr).AddrPort())
	}
	for _, l := range s.listeners {
		out = append(out, l.Addr().(*net.TCPAddr).AddrPort())
	}
	return out
}

// Close ends receiving.
func (s *Server) Close() {
	for _, c := range s.packets {
		c.Close()
	}
	for _, l := range s.listeners {
		l.Close()
	}
	s.mu.Lock()
	s.closed = true
	for c := range s.streams {
		c.Close()
	}
	s.mu.Unlock()
	s.done.Wait()
}

func (s *Server) receive(c net.PacketConn, take func([]byte, netip.Addr)) {
	buffer := make([]byte, syslog.MaxSize)
	for {
		n, from, err := c.ReadFrom(buffer)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		s.o.Catch(func() { take(buffer[:n], from.(*net.UDPAddr).AddrPort().Addr().Unmap().WithZone("")) })
	}
}

func (s *Server) accept(l net.Listener, secure bool) {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond) // no descriptors are left, or the like
			continue
		}
		s.mu.Lock()
		if s.closed {
			c.Close()
		}
		s.streams[c] = true
		s.mu.Unlock()
		s.done.Go(func() {
			defer func() {
				c.Close()
				s.mu.Lock()
				delete(s.streams, c)
				s.mu.Unlock()
			}()
			s.o.Catch(func() { s.stream(c, secure) })
		})
	}
}

// stream reads syslog from a connection until it ends, or its sender is no source any more.
func (s *Server) stream(c net.Conn, secure bool) {
	from := c.RemoteAddr().(*net.TCPAddr).AddrPort().Addr().Unmap().WithZone("")
	if s.o.Keeper.ByAddress(config.SourceSyslog, from) == nil {
		return
	}
	if secure {
		t := tls.Server(c, s.o.Secure)
		ctx, cancel := context.WithTimeout(context.Background(), handshake)
		err := t.HandshakeContext(ctx)
		cancel()
		if err != nil {
			slog.Warn("a source of syslog could not be let in", "from", from, "error", err)
			return
		}
		c = t
	}
	r := syslog.NewReader(c)
	for {
		if err := c.SetReadDeadline(time.Now().Add(idle)); err != nil {
			return
		}
		text, err := r.Next()
		if err != nil {
			return
		}
		source := s.o.Keeper.ByAddress(config.SourceSyslog, from)
		if source == nil {
			return
		}
		s.line(source, text)
	}
}

func (s *Server) datagram(b []byte, from netip.Addr) {
	if source := s.o.Keeper.ByAddress(config.SourceSyslog, from); source != nil {
		s.line(source, b)
	}
}

// line takes one message of syslog.
func (s *Server) line(source *presence.Source, b []byte) {
	m := syslog.Parse(b, time.Now())
	sighting, ok, err := source.Read(m.Text)
	switch {
	case !ok:
		s.o.Keeper.Unread(source)
		return
	case err != nil:
		s.o.Keeper.Refuse(source, err.Error())
		return
	}
	sighting.At = m.At
	s.o.Keeper.Take(source, presence.Report{Sighting: sighting, Detail: cut(m.Text)})
}

// cut bounds what is kept of a line.
func cut(text string) string {
	if len(text) > 200 {
		text = text[:200] + "…"
	}
	return text
}

// dhcp takes a copy of a DHCP message.
func (s *Server) dhcp(b []byte, from netip.Addr) {
	source := s.o.Keeper.ByAddress(config.SourceDHCP, from)
	if source == nil {
		return
	}
	m, err := dhcp.Parse(b)
	if err != nil {
		s.o.Keeper.Refuse(source, err.Error())
		return
	}
	r := presence.Report{Sighting: core.Sighting{MAC: core.MAC(uint64(m.Device[0])<<40 | uint64(m.Device[1])<<32 |
		uint64(
			m.Device[2],
		)<<24 | uint64(m.Device[3])<<16 | uint64(m.Device[4])<<8 | uint64(m.Device[5])), Host: m.Host}}
	s.o.Keeper.Notice(source, r.MAC, facts.Traits{Fingerprint: m.Fingerprint, VendorClass: m.VendorClass, Host: m.Host},
		time.Now())
	address, leased := m.Leased()
	switch {
	case leased:
		r.Kind, r.Address, r.At, r.Detail, r.Asked = core.Leased, address, time.Now(), "asked for", true
		if m.Type == dhcp.Ack {
			r.Detail, r.Asked = "granted", false
		}
		if m.Lease > 0 {
			r.Until, r.Detail = r.At.Add(m.Lease), fmt.Sprintf("%s for %d min", r.Detail, int(m.Lease.Minutes()))
		}
	case m.Type == dhcp.Release || m.Type == dhcp.Decline:
		if r.Kind, r.Address, r.Detail = core.Released, m.Current, "released"; m.Type == dhcp.Decline {
			r.Address, r.Detail = m.Requested, "declined"
		}
	default:
		return
	}
	s.o.Keeper.Take(source, r)
}
