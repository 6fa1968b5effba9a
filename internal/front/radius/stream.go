package radius

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
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
	t     *Streams
	raw   net.Conn
	conn  *tls.Conn
	peer  *secure.Peer
	from  netip.AddrPort
	addr  netip.Addr
	keys  *snapshot.ClientKeys
	out   *outlet.Outlet
	ended atomic.Bool
}

// ServeStreams opens the addresses (host:port) and begins to serve. What comes is handed to the servers of both ports,
// of which accounting may be nil.
func ServeStreams(auth *Server, accounting *Accounting, addresses []string) (*Streams, error) {
	ctx, cancel := context.WithCancel(context.Background())
	t := &Streams{auth: auth, accounting: accounting, crowd: secure.NewCrowd(streamLimits), ctx: ctx, cancel: cancel,
		open: map[*stream]bool{}}
	for _, address := range addresses {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Close()
			return nil, fmt.Errorf("listening for RADIUS over TLS on %s: %w", address, err)
		}
		t.listeners = append(t.listeners, l)
	}
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
		s := &stream{t: t, raw: raw, from: from, addr: from.Addr().Unmap().WithZone("")}
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

func (s *stream) fault(fault sources.Fault, detail string) {
	current, id := s.t.auth.gate.Current(), ""
	client := current.Plan.Client(s.addr)
	if s.peer != nil {
		client = s.peer.Client(current)
	}
	if client != nil {
		id = client.ID
	}
	s.t.auth.sources.Discard(s.addr, id, fault, detail, time.Now())
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
		waiting := s.t.auth.inFlight.Load()
		if s.t.accounting != nil {
			waiting += s.t.accounting.inFlight.Load()
		}
		if waiting == 0 && s.out.Idle() {
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
		*in = incoming{line: s, from: s.from, keys: s.keys}
		in.Begun, in.From, in.Snapshot, in.Transport = time.Now(), s.addr, s.t.auth.gate.Current(), facts.OverTLS
		if !s.packet(in, buf[:n]) {
			return
		}
	}
}

// packet hands a packet on. It reports whether the connection may go on.
func (s *stream) packet(in *incoming, data []byte) bool {
	in.Client = s.peer.Client(in.Snapshot)
	if in.Client == nil || !in.Client.Enabled {
		s.fault(sources.Disabled, "RADIUS over TLS")
		return false
	}
	if detail := s.peer.Refuses(s.t.ctx, in.Snapshot, in.Client); detail != "" {
		s.fault(sources.TLSFailed, detail)
		return false
	}
	malformed := false
	switch code := radius.Code(data[0]); {
	case code == radius.AccountingRequest && s.t.accounting != nil:
		malformed = !s.t.accounting.decode(in, data, s.t.accounting.take)
	case code == radius.CoARequest || code == radius.DisconnectRequest:
		return s.decline(in, data)
	default:
		malformed = !s.t.auth.decode(in, data, s.t.auth.take)
	}
	return !malformed
}

// decline answers a change of authorization, which a server does not take (RFC 6614 section 2.5).
func (s *stream) decline(in *incoming, data []byte) bool {
	p, err := radius.Decode(data)
	if err != nil || !s.keys.Current.VerifyFixed(&p) {
		s.fault(sources.Malformed, "a change of authorization over TLS")
		return false
	}
	code := radius.CoANAK
	if p.Code == radius.DisconnectRequest {
		code = radius.DisconnectNAK
	}
	b := radius.NewReply(nil, code, p.Identifier)
	b.AddInteger(radius.ErrorCause, unsupportedExtension)
	for t, value := range p.Attributes() {
		if t == radius.ProxyState {
			b.Add(t, value)
		}
	}
	reply, err := b.SignReply(s.keys.Current, p.Authenticator)
	if err == nil {
		s.send(reply, s.from, nil)
	}
	s.t.auth.sources.Discard(s.addr, in.Client.ID, sources.WrongCode, p.Code.String()+" over TLS", time.Now())
	return err == nil
}

// unsupportedExtension is an Error-Cause (RFC 5176 section 3.6).
const unsupportedExtension = 406

// send implements line.
func (s *stream) send(reply []byte, _ netip.AddrPort, _ route) { s.out.Send(reply) }
