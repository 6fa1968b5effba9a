package tacacs

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"tollgate.example/key/internal/base/workers"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/front/secure"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
)

// workerIdle is how long a worker waits for another packet before it ends.
const workerIdle = 5 * time.Second

// limits bound the connections of gear.
var limits = secure.Limits{All: 16_384, OfOne: 4_096, Strangers: 4_096, StrangersOfOne: 256}

// Server serves TACACS+ over TCP (RFC 8907) and over TLS 1.3 (RFC 9887).
type Server struct {
	gate    *gate.Gate
	sources *sources.Registry
	plain   []net.Listener
	secure  []net.Listener
	crowd   *secure.Crowd
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
func Serve(g *gate.Gate, registry *sources.Registry, plain, overTLS []string) (*Server, error) {
	ctx, cancel := context.WithCancel(context.Background())
	t := &Server{gate: g, sources: registry, crowd: secure.NewCrowd(limits), jobs: workers.New(workerIdle,
		func(job func()) {
			job()
		}), ctx: ctx, cancel: cancel, conns: map[*conn]bool{}}
	for _, part := range []struct {
		addresses []string
		to        *[]net.Listener
		what      string
	}{{plain, &t.plain, "TACACS+"}, {overTLS, &t.secure, "TACACS+ over TLS"}} {
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
func (t *Server) Open() int { return t.crowd.Size() }

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
		place, full := t.crowd.Enter(addr)
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
			defer place.Leave()
			t.serve(raw, addr, secure, "", place)
		})
	}
}

// welcome reports whether a connection from an address is worth anything; nobody else costs more than this.
func (t *Server) welcome(addr netip.Addr, secure bool) bool {
	s, now := t.gate.Current(), time.Now()
	client := s.Plan.Client(addr)
	switch {
	case client == nil && secure && s.NamesAnybody():
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
func (t *Server) serve(raw net.Conn, addr netip.Addr, secure bool, tried string, place *secure.Place) {
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

// terms are what we ask of clients that speak TACACS+ over TLS.
var terms = secure.Terms{Protocol: "TACACS+", Speaks: snapshot.SpeaksGear,
	ByAddress: func(c *config.Client) bool { return c.TACACSByAddress }}

// handshake lets a client in over TLS.
func (c *conn) handshake() bool {
	conn, peer, refused := secure.Greet(c.t.ctx, c.t.gate, &terms, c.raw, c.addr)
	if refused != nil {
		c.t.sources.Discard(c.addr, refused.Client, refused.Fault, refused.Detail, time.Now())
		return false
	}
	c.conn, c.peer = conn, peer
	c.in.Reset(conn)
	if peer.Named() {
		c.place.Proven()
	}
	return true
}

// stillProves looks at the certificate again before a session begins.
func (c *conn) stillProves(s *snapshot.Snapshot, client *config.Client) bool {
	if c.peer == nil {
		return true
	}
	detail := c.peer.Refuses(c.t.ctx, s, client)
	if detail != "" {
		c.fault(sources.TLSFailed, detail)
	}
	return detail == ""
}
