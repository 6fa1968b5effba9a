package radius

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pion/dtls/v3"

	"tollgate.example/key/internal/base/datagram"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/front/secure"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/radius"
)

// datagramRest is how long an association may be silent: there is no end of a connection that would tell.
const datagramRest = 5 * time.Minute

// datagramLimits bound the associations of RADIUS over DTLS. A datagram can bear any sender's address, so strangers get
// few places, and only at the addresses of clients: a handshake under way may hold two megabytes of fragments.
var datagramLimits = secure.Limits{All: 4096, OfOne: 256, Strangers: 128, StrangersOfOne: 16}

// keysDTLS are the keys of RADIUS over DTLS (RFC 7360 section 2.1).
var keysDTLS = snapshot.ClientKeys{Current: radius.NewKey([]byte(radius.DTLSSecret))}

// Datagrams serves authentication and accounting over DTLS (RFC 7360), on one port.
type Datagrams struct {
	auth       *Server
	accounting *Accounting
	sockets    []*socket
	crowd      *secure.Crowd
	readers    sync.WaitGroup
	all        sync.WaitGroup
	ctx        context.Context
	cancel     context.CancelFunc

	mu     sync.Mutex
	open   map[end]*associations
	closed bool
}

// end is the other end of an association, at one of our sockets.
type end struct {
	socket *socket
	from   netip.AddrPort
}

// associations are those of one other end: the one in use, and one under way. A client that was restarted begins anew
// from the same port, and so may a stranger in its name, which must not end the one in use (RFC 6347 section 4.2.8).
type associations struct{ proven, greeting *association }

// association is one client's DTLS connection.
type association struct {
	channel
	t     *Datagrams
	end   end
	queue *datagram.Queue
	conn  *dtls.Conn
	ended atomic.Bool
}

// ServeDatagrams opens the addresses (host:port) and begins to serve. What comes is handed to the servers of both
// ports, of which accounting may be nil.
func ServeDatagrams(auth *Server, accounting *Accounting, addresses []string) (*Datagrams, error) {
	sockets, err := openAll("RADIUS over DTLS", addresses, openSocket)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	t := &Datagrams{auth: auth, accounting: accounting, crowd: secure.NewCrowd(datagramLimits), ctx: ctx,
		cancel: cancel, sockets: sockets, open: map[end]*associations{}}
	for _, socket := range t.sockets {
		t.readers.Go(func() { t.read(socket) })
	}
	return t, nil
}

// Addresses are the addresses really listened on.
func (t *Datagrams) Addresses() (out []netip.AddrPort) {
	for _, s := range t.sockets {
		out = append(out, s.LocalAddr().(*net.UDPAddr).AddrPort())
	}
	return out
}

// Close stops reading. The servers of both ports are closed after it; what is under way is still answered.
func (t *Datagrams) Close() {
	for _, s := range t.sockets {
		s.SetReadDeadline(time.Now())
	}
	t.readers.Wait()
	t.mu.Lock()
	t.closed = true
	for _, a := range t.open {
		if a.greeting != nil {
			a.greeting.queue.Close()
		}
		if a.proven != nil {
			a.proven.stop()
		}
	}
	t.mu.Unlock()
	timer := time.AfterFunc(2*time.Second, t.cancel)
	t.all.Wait()
	timer.Stop()
	t.cancel()
	for _, s := range t.sockets {
		s.Close()
	}
}

// stop ends the reading of an association.
func (s *association) stop() {
	s.ended.Store(true)
	s.conn.SetReadDeadline(time.Now())
}

// read hands the datagrams of a socket to those they belong to.
func (t *Datagrams) read(socket *socket) {
	buf := make([]byte, datagram.MaxSize+1)
	for {
		n, from, back, err := socket.receive(buf)
		if err != nil {
			if ne, ok := err.(net.Error); ok && ne.Timeout() || errors.Is(err, net.ErrClosed) {
				return
			}
			slog.Warn("reading from the socket for RADIUS over DTLS", "error", err)
			time.Sleep(time.Millisecond)
			continue
		}
		t.deliver(end{socket, from}, back, buf[:n])
	}
}

// Of a DTLS record (RFC 6347 section 4.1) and what it begins with.
const (
	recordHeader     = 13
	contentHandshake = 22
	typeClientHello  = 1
)

// begins reports whether a datagram begins a handshake: with a ClientHello that nothing protects.
func begins(data []byte) bool {
	return len(data) > recordHeader && data[0] == contentHandshake && data[1] == 0xfe && data[3] == 0 &&
		data[4] == 0 && data[recordHeader] == typeClientHello
}

func (t *Datagrams) deliver(from end, back route, data []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	a := t.open[from]
	if begins(data) && (a == nil || a.greeting == nil) {
		if a = t.begin(from, back, a); a == nil {
			return
		}
	}
	if a == nil || len(data) <= recordHeader {
		return
	}
	if a.greeting != nil {
		a.greeting.queue.Put(data)
	}
	if protected := data[3] != 0 || data[4] != 0; a.proven != nil && protected {
		a.proven.queue.Put(data) // what is not meant for it does not decrypt, and is ignored
	}
}

// begin makes room for a new association, nil if there is none. The caller holds the lock.
func (t *Datagrams) begin(from end, back route, a *associations) *associations {
	one := &association{t: t, end: from, channel: channel{auth: t.auth, accounting: t.accounting, ctx: t.ctx,
		transport: facts.OverDTLS, from: from.from, addr: from.from.Addr().Unmap().WithZone(""), keys: &keysDTLS}}
	one.line = one
	if client := t.auth.gate.Current().Plan.Client(one.addr); client == nil {
		one.fault(sources.UnknownClient, one.what())
		return nil
	} else if !streamTerms.Speaks(client) {
		one.fault(sources.TLSFailed, client.Name+" is not set up for "+one.what())
		return nil
	}
	if t.closed {
		return nil
	}
	place, full := t.crowd.Enter(one.addr)
	if full != "" {
		one.fault(sources.Busy, full)
		return a
	}
	if a == nil {
		a = &associations{}
		t.open[from] = a
	}
	a.greeting, one.queue = one, datagram.NewQueue(from.socket.LocalAddr(), from.from,
		func(data []byte) { from.socket.send(data, from.from, back) })
	t.all.Go(func() {
		defer place.Leave()
		one.serve(place)
	})
	return a
}

// serve serves an association to its end.
func (s *association) serve(place *secure.Place) {
	defer s.leave()
	g := s.auth.gate
	defer g.Panics.Catch(func() string { return s.what() + " from " + s.from.String() }, func() {
		s.fault(sources.Panicked, "")
	})
	conn, peer, refused := secure.GreetDatagrams(s.ctx, g, &streamTerms, s.queue, s.from)
	if refused != nil {
		s.auth.sources.Discard(s.addr, refused.Client, refused.Fault, refused.Detail, time.Now())
		return
	}
	defer conn.Close()
	place.Proven()
	s.auth.sources.GoodTLS(s.addr, time.Now())
	s.conn, s.peer = conn, peer
	s.proven()
	s.read()
	for until := time.Now().Add(2 * time.Second); s.ended.Load() && !s.answered() && time.Now().Before(until); {
		time.Sleep(5 * time.Millisecond) // we stop: what is under way is answered before
	}
}

// proven puts an association in the place of the one before.
func (s *association) proven() {
	s.t.mu.Lock()
	defer s.t.mu.Unlock()
	a := s.t.open[s.end]
	if a.proven != nil {
		a.proven.queue.Close()
	}
	a.proven, a.greeting = s, nil
}

func (s *association) leave() {
	s.queue.Close()
	s.t.mu.Lock()
	defer s.t.mu.Unlock()
	a := s.t.open[s.end]
	if a == nil { // it was replaced, and the one in its place is gone before it
		return
	}
	if a.proven == s {
		a.proven = nil
	}
	if a.greeting == s {
		a.greeting = nil
	}
	if a.proven == nil && a.greeting == nil {
		delete(s.t.open, s.end)
	}
}

// read takes packets until the association ends. Each comes in a datagram of its own.
func (s *association) read() {
	in, buf := new(incoming), make([]byte, 2*radius.MaxSize)
	for {
		s.conn.SetReadDeadline(time.Now().Add(datagramRest))
		if s.ended.Load() {
			return
		}
		n, err := s.conn.Read(buf)
		if err != nil {
			return
		}
		if n < 4 {
			s.fault(sources.Malformed, fmt.Sprintf("%d octets over DTLS", n))
			continue
		}
		if length, err := radius.Length(buf); err != nil || length > n {
			s.fault(sources.Malformed, fmt.Sprintf("a packet of %d octets over DTLS: %v", n, err))
			continue // like a packet over UDP; no other depends on where this one ends
		}
		if !s.packet(in, buf[:n]) && !s.welcome() {
			return
		}
	}
}

// welcome reports whether the client may go on after a packet that was not taken.
func (s *association) welcome() bool {
	current := s.auth.gate.Current()
	client := s.peer.Client(current)
	return client != nil && client.Enabled && s.peer.Refuses(s.ctx, current, client) == ""
}

// send implements line.
func (s *association) send(reply []byte, _ netip.AddrPort, _ route) { s.conn.Write(reply) }
