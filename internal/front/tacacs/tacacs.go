package tacacs

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"tollgate.example/key/internal/base/workers"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/manage/sources"
)

const (
	// maxGear bounds the connections of gear, maxGearOfOne those from one address. A connection on which nothing was
	// proven yet counts as a stranger's: of those there may be maxStrangers, and maxStrangersOfOne from one address.
	maxGear           = 16_384
	maxGearOfOne      = 4_096
	maxStrangers      = 4_096
	maxStrangersOfOne = 256
	// workerIdle is how long a worker waits for another packet before it ends.
	workerIdle = 5 * time.Second
	// handshakeTime is how long a TLS handshake may take.
	handshakeTime = 10 * time.Second
	// proofTime is for how long a certificate is taken for good without a second look.
	proofTime = 5 * time.Second
)

// Server serves TACACS+ over TCP (RFC 8907) and over TLS 1.3 (RFC 9887).
type Server struct {
	gate    *gate.Gate
	sources *sources.Registry
	plain   []net.Listener
	secure  []net.Listener
	crowd   crowd
	jobs    *workers.Pool[func()]
	all     sync.WaitGroup
	ctx     context.Context
	cancel  context.CancelFunc

	mu     sync.Mutex
	conns  map[*conn]bool
	closed bool
}

// listening leaves keep-alive probes out: a silent connection is ended anyway, and they are system calls for each
// connection.
var listening = net.ListenConfig{KeepAlive: -1}

// Serve opens the addresses (host:port), those of TLS apart, and begins to serve.
func Serve(g *gate.Gate, registry *sources.Registry, plain, secure []string) (*Server, error) {
	ctx, cancel := context.WithCancel(context.Background())
	t := &Server{gate: g, sources: registry, crowd: newCrowd(), jobs: workers.New(workerIdle, func(job func()) {
		job()
	}), ctx: ctx, cancel: cancel, conns: map[*conn]bool{}}
	for _, part := range []struct {
		addresses []string
		to        *[]net.Listener
		what      string
	}{{plain, &t.plain, "TACACS+"}, {secure, &t.secure, "TACACS+ over TLS"}} {
		for _, address := range part.addresses {
			l, err := listening.Listen(ctx, "tcp", address)
			if err != nil {
				t.Close()
				return nil, fmt.Errorf("listening for %s on %s: %w", part.what, address, err)
			}
			*part.to = append(*part.to, l)
		}
	}
	for _, l := range t.plain {
		t.all.Go(func() { t.accept(l, false) })
	}
	for _, l := range t.secure {
		t.all.Go(func() { t.accept(l, true) })
	}
	return t, nil
}

// Addresses are the addresses really listened on, in plain and with TLS.
func (t *Server) Addresses() (plain, secure []netip.AddrPort) {
	for _, l := range t.plain {
		plain = append(plain, l.Addr().(*net.TCPAddr).AddrPort())
	}
	for _, l := range t.secure {
		secure = append(secure, l.Addr().(*net.TCPAddr).AddrPort())
	}
	return plain, secure
}

// Close ends all connections; requests under way are answered, if that takes no more than two seconds.
func (t *Server) Close() {
	for _, l := range append(append([]net.Listener(nil), t.plain...), t.secure...) {
		l.Close()
	}
	timer := time.AfterFunc(2*time.Second, t.cancel)
	t.mu.Lock()
	t.closed = true
	for c := range t.conns {
		c.closing.Store(true) // before the deadline, which the connection may be about to set anew
		c.raw.SetReadDeadline(time.Now())
	}
	t.mu.Unlock()
	t.all.Wait()
	timer.Stop()
	t.cancel()
	t.jobs.Close()
}

// Open counts the connections.
func (t *Server) Open() int { return t.crowd.size() }

func (t *Server) accept(l net.Listener, secure bool) {
	for {
		raw, err := l.Accept()
		if err != nil {
			if t.ctx.Err() != nil || isClosed(err) {
				return
			}
			slog.Warn("accepting a TACACS+ connection", "error", err)
			time.Sleep(10 * time.Millisecond) // out of descriptors, most likely
			continue
		}
		addr := raw.RemoteAddr().(*net.TCPAddr).AddrPort().Addr().Unmap().WithZone("")
		if !t.welcome(addr, secure) {
			raw.Close()
			continue
		}
		place, full := t.crowd.enter(addr)
		if full != "" {
			id := ""
			if client := t.gate.Current().Plan.Client(addr); client != nil {
				id = client.ID
			}
			t.sources.Discard(addr, id, sources.Busy, full, time.Now())
			raw.Close()
			continue
		}
		t.all.Go(func() {
			defer place.leave()
			t.serve(raw, addr, secure, "", place)
		})
	}
}

// welcome reports whether a connection from an address is worth anything; nobody else costs more than this.
func (t *Server) welcome(addr netip.Addr, secure bool) bool {
	s, now := t.gate.Current(), time.Now()
	client := s.Plan.Client(addr)
	switch {
	case client == nil && secure && s.NamesGear():
		return true // its certificate may tell who it is
	case client == nil:
		t.sources.Discard(addr, "", sources.UnknownClient, "TACACS+", now)
	case !client.Enabled:
		t.sources.Discard(addr, client.ID, sources.Disabled, "TACACS+", now)
	case !snapshot.SpeaksGear(client), !secure && !client.TACACSSecret.Set() && !client.TACACSPlain:
		t.sources.Discard(addr, client.ID, sources.NoSecret, "TACACS+", now)
	default:
		return true
	}
	return false
}

// serve serves one connection to its end. tried is the operator whose trial it is, "" for a real device.
func (t *Server) serve(raw net.Conn, addr netip.Addr, secure bool, tried string, place *place) {
	c := newConn(t, raw, addr, tried)
	c.place = place
	defer raw.Close()
	defer t.gate.Panics.Catch(func() string { return "a TACACS+ connection from " + addr.String() }, func() {
		c.fault(sources.Panicked, "")
	})
	t.mu.Lock()
	closed := t.closed
	t.conns[c] = true
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		delete(t.conns, c)
		t.mu.Unlock()
	}()
	if closed || secure && !c.handshake() {
		return
	}
	c.run()
}

// Trial is a connection as if it came from a client, within the process. What is asked on it walks the same road as
// what comes from the network, and is recorded as tried by somebody.
func (t *Server) Trial(from netip.Addr, by string) net.Conn {
	near, far := net.Pipe()
	t.all.Go(func() { t.serve(far, from, false, by, nil) })
	return near
}

// handshake lets a client in over TLS. The client is the one that its certificate names; one that shows no certificate
// is taken by its address only where the client says so, since nothing else would prove it: there is no shared secret
// within TLS.
func (c *conn) handshake() bool {
	s := c.t.gate.Current()
	byAddress := s.Plan.Client(c.addr)
	cert := s.GearCertificate(byAddress)
	refuse := func(detail string) bool {
		id := ""
		if byAddress != nil {
			id = byAddress.ID
		}
		c.t.sources.Discard(c.addr, id, sources.GearTLS, detail, time.Now())
		return false
	}
	if cert == nil {
		return refuse("there is no server certificate to show; make one under Certificates")
	}
	conn := tls.Server(c.raw, &tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS13,
		ClientAuth: tls.RequestClientCert})
	ctx, cancel := context.WithTimeout(c.t.ctx, handshakeTime)
	defer cancel()
	if err := conn.HandshakeContext(ctx); err != nil {
		return refuse(err.Error())
	}
	c.conn, c.secure = conn, true
	c.in.Reset(conn)
	chain := conn.ConnectionState().PeerCertificates
	if len(chain) > 0 {
		names := append([]string(nil), chain[0].DNSNames...)
		for _, ip := range chain[0].IPAddresses {
			names = append(names, ip.String())
		}
		if client := s.GearClient(names); client != nil {
			trust := s.GearTrust(client)
			if trust == nil {
				return refuse("there is no trust list for the certificate of " + client.Name)
			}
			if detail := c.proves(ctx, trust, client.Name, chain); detail != "" {
				byAddress = client
				return refuse(detail)
			}
			c.place.proven()
			c.names, c.chain, c.provenUnder, c.proven = names, chain, s, time.Now()
			return true
		}
	}
	switch {
	case byAddress == nil:
		c.t.sources.Discard(c.addr, "", sources.UnknownClient, "TACACS+ over TLS: neither the address nor the "+
			"certificate is that of a client", time.Now())
		return false
	case !snapshot.SpeaksGear(byAddress):
		return refuse(byAddress.Name + " is not set up for TACACS+")
	case len(byAddress.TACACSNames) > 0 && len(chain) == 0:
		return refuse(byAddress.Name + " shows no certificate")
	case len(byAddress.TACACSNames) > 0:
		return refuse(fmt.Sprintf("the certificate (%s) carries none of the names of %s", chain[0].Subject,
			byAddress.Name))
	case !byAddress.TACACSByAddress:
		return refuse(byAddress.Name + " proves itself by nothing: give it a certificate and its name in the client, " +
			"or let the client be known by its address alone")
	}
	return true
}

// proves says why a certificate does not prove a client, "" if it does.
func (c *conn) proves(ctx context.Context, trust *certificate.Trust, client string, chain []*x509.Certificate) string {
	if v := trust.Verify(ctx, chain, nil, time.Now()); v.Code != reason.OK {
		return fmt.Sprintf("the certificate of %s is not accepted: %s %s", client, v.Code, v.Detail)
	}
	return ""
}

// stillProves looks at the certificate again before a session begins: under another configuration, and otherwise now
// and then, since it may have expired or been revoked while the connection was open.
func (c *conn) stillProves(s *snapshot.Snapshot, client *config.Client) bool {
	if c.chain == nil || c.provenUnder == s && time.Since(c.proven) < proofTime {
		return true
	}
	detail := "there is no trust list for the certificate of " + client.Name
	if trust := s.GearTrust(client); trust != nil {
		ctx, cancel := context.WithTimeout(c.t.ctx, handshakeTime)
		defer cancel()
		detail = c.proves(ctx, trust, client.Name, c.chain)
	}
	if detail != "" {
		c.fault(sources.GearTLS, detail)
		return false
	}
	c.provenUnder, c.proven = s, time.Now()
	return true
}
