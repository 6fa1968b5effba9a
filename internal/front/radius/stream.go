package radius

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/outlet"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/front/secure"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/radius"
)

const (
	// packetTime is how long the rest of a packet may take, restTime how long a connection may be silent: clients send
	// Status-Server more often than that to see whether we are there (RFC 3539 section 3.4).
	packetTime = 10 * time.Second
	restTime   = 30 * time.Minute
	sendTime   = 10 * time.Second
	// maxPending bounds the octets of replies that wait for a client to read them. One that does not is left.
	maxPending = 4 << 20
	readBuffer = 16 << 10
)

// streamLimits bound the connections of RADIUS over TLS.
var streamLimits = secure.Limits{All: 8192, OfOne: 1024, Strangers: 2048, StrangersOfOne: 128}

// streamTerms are what we ask of clients that speak RADIUS over TLS. TLS is mutual there (RFC 6614 section 2.3), so an
// address alone proves nobody.
var streamTerms = secure.Terms{Protocol: "RADIUS", Next: []string{radius.Version11, radius.Version10},
	Speaks: func(c *config.Client) bool { return len(c.TLSNames) > 0 }, Within: true}

// Keys of RADIUS over TLS, by version.
var (
	keys10 = snapshot.ClientKeys{Current: radius.NewKey([]byte(radius.TLSSecret))}
	keys11 = snapshot.ClientKeys{Current: radius.NewClearKey()}
)

// Streams serves authentication and accounting over TLS (RFC 6614 as RFC 9765 has it), on one port.
type Streams struct {
	auth       *Server
	accounting *Accounting
	listeners  []net.Listener
	crowd      *secure.Crowd
	all        sync.WaitGroup
	ctx        context.Context
	cancel     context.CancelFunc

	mu     sync.Mutex
	open   map[*stream]bool
	closed bool
}

// stream is one connection.
type stream struct {
	channel
	t     *Streams
	raw   net.Conn
	conn  *tls.Conn
	out   *outlet.Outlet
	ended atomic.Bool
}

// ServeStreams opens the addresses (host:port) and begins to serve. What comes is handed to the servers of both ports,
// of which accounting may be nil.
func ServeStreams(auth *Server, accounting *Accounting, addresses []string) (*Streams, error) {
	listeners, err := openAll("RADIUS over TLS", addresses, func(address string) (net.Listener, error) {
		return net.Listen("tcp", address)
	})
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	t := &Streams{auth: auth, accounting: accounting, crowd: secure.NewCrowd(streamLimits), ctx: ctx, cancel: cancel,
		listeners: listeners, open: map[*stream]bool{}}
	for _, l := range t.listeners {
		t.all.Go(func() { t.accept(l) })
	}
	return t, nil
}

// Addresses are the addresses really listened on.
func (t *Streams) Addresses() (out []netip.AddrPort) {
	for _, l := range t.listeners {
		out = append(out, l.Addr().(*net.TCPAddr).AddrPort())
	}
	return out
}

// Close stops reading. The servers of both ports are closed after it; what is under way is still answered.
func (t *Streams) Close() {
	for _, l := range t.listeners {
		l.Close()
	}
	t.mu.Lock()
	t.closed = true
	for s := range t.open {
		s.stop()
	}
	t.mu.Unlock()
	timer := time.AfterFunc(2*time.Second, t.cancel)
	t.all.Wait()
	timer.Stop()
	t.cancel()
}

// stop ends the reading of a connection.
func (s *stream) stop() {
	s.ended.Store(true)
	s.raw.SetReadDeadline(time.Now())
}

func (t *Streams) accept(l net.Listener) {
	for {
		raw, err := l.Accept()
		if err != nil {
			if t.ctx.Err() != nil || errors.Is(err, net.ErrClosed) {
				return
			}
			slog.Warn("accepting a connection of RADIUS over TLS", "error", err)
			time.Sleep(10 * time.Millisecond) // out of descriptors, most likely
			continue
		}
		from := raw.RemoteAddr().(*net.TCPAddr).AddrPort()
		s := &stream{t: t, raw: raw, channel: channel{auth: t.auth, accounting: t.accounting, ctx: t.ctx,
			transport: facts.OverTLS, from: from, addr: from.Addr().Unmap().WithZone("")}}
		s.line = s
		place, full := t.crowd.Enter(s.addr)
		if full != "" {
			s.fault(sources.Busy, full)
			raw.Close()
			continue
		}
		t.all.Go(func() {
			defer place.Leave()
			s.serve(place)
		})
	}
}

// serve serves a connection to its end.
func (s *stream) serve(place *secure.Place) {
	defer s.raw.Close()
	g := s.t.auth.gate
	defer g.Panics.Catch(func() string { return "a connection of RADIUS over TLS from " + s.from.String() }, func() {
		s.fault(sources.Panicked, "")
	})
	current := g.Current()
	if client := current.Plan.Client(s.addr); client == nil && !current.NamesAnybody() {
		s.fault(sources.UnknownClient, "RADIUS over TLS") // nobody could prove anything
		return
	}
	conn, peer, refused := secure.Greet(s.t.ctx, g, &streamTerms, s.raw, s.addr)
	if refused != nil {
		s.t.auth.sources.Discard(s.addr, refused.Client, refused.Fault, refused.Detail, time.Now())
		return
	}
	place.Proven()
	s.t.auth.sources.GoodTLS(s.addr, time.Now())
	s.conn, s.peer, s.keys, s.out = conn, peer, &keys10, outlet.New(conn, maxPending, sendTime)
	if conn.ConnectionState().NegotiatedProtocol == radius.Version11 {
		s.keys = &keys11
	}
	if !s.t.enter(s) {
		return
	}
	defer s.t.leave(s)
	s.read()
}

func (t *Streams) enter(s *stream) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.open[s] = true
	return !t.closed
}

func (t *Streams) leave(s *stream) {
	t.mu.Lock()
	delete(t.open, s)
	t.mu.Unlock()
	if s.ended.Load() { // we stop: what is under way is answered before the connection ends
		s.drain()
	}
}

// drain waits until the requests that were read are answered, a moment at most.
func (s *stream) drain() {
	for until := time.Now().Add(2 * time.Second); time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
		if s.answered() && s.out.Idle() {
			return
		}
	}
}

// read takes packets until the connection ends.
func (s *stream) read() {
	in, buf, reader := new(incoming), make([]byte, radius.MaxSize), bufio.NewReaderSize(s.conn, readBuffer)
	for {
		s.raw.SetReadDeadline(time.Now().Add(restTime))
		if s.ended.Load() {
			return
		}
		if _, err := io.ReadFull(reader, buf[:4]); err != nil {
			return
		}
		n, err := radius.Length(buf)
		if err != nil {
			s.fault(sources.Malformed, err.Error())
			return
		}
		s.raw.SetReadDeadline(time.Now().Add(packetTime))
		if _, err := io.ReadFull(reader, buf[4:n]); err != nil {
			s.fault(sources.Malformed, "the connection ended, or was silent, within a packet")
			return
		}
		if !s.packet(in, buf[:n]) {
			return
		}
	}
}

// send implements line.
func (s *stream) send(reply []byte, _ netip.AddrPort, _ route) { s.out.Send(reply) }
