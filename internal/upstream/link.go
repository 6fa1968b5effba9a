package upstream

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/outlet"
	"tollgate.example/key/internal/wire/radius"
)

const (
	// maxInFlight bounds the requests under way on one connection: in version 1.0 an identifier has eight bits.
	maxInFlight10 = 256
	maxInFlight11 = 4096
	// idleFor is how long a connection may be silent before a Status-Server asks whether the other side is there (RFC
	// 3539 section 3.4.1), dialTime how long it may take to connect, redial how long nobody tries again after a
	// failure.
	idleFor  = 20 * time.Second
	dialTime = 5 * time.Second
	redial   = 500 * time.Millisecond
	sendTime = 10 * time.Second
	// maxPending bounds the octets that wait for the other side to read them.
	maxPending = 4 << 20
)

// ErrClosed tells that the connection ended before the answer came.
var ErrClosed = errors.New("the connection ended before the answer came")

// Link is a connection to a server over TLS (RFC 6614, or RFC 9765 where the other side offers it) or DTLS (RFC 7360),
// with many requests under way. It connects when it is needed, and again when the connection ends. It is safe for
// concurrent use.
type Link struct {
	from    netip.Addr
	address string
	config  *tls.Config
	timeout time.Duration
	// datagrams is DTLS, where what is lost has to be sent again.
	datagrams bool

	mu      sync.Mutex
	conn    *linkConn
	dialing chan struct{}
	failed  time.Time
	err     error
	closed  bool
}

// NewLink makes a link to host:port, from an address of this host if one is given. A request is waited for as long as
// timeout.
func NewLink(from netip.Addr, address string, config *tls.Config, timeout time.Duration) *Link {
	config = config.Clone()
	config.MinVersion = tls.VersionTLS13
	config.NextProtos = []string{radius.Version11, radius.Version10}
	return &Link{from: from, address: address, config: config, timeout: timeout}
}

// NewDatagramLink is NewLink over DTLS.
func NewDatagramLink(from netip.Addr, address string, config *tls.Config, timeout time.Duration) *Link {
	l := NewLink(from, address, config, timeout)
	l.datagrams = true
	return l
}

// Close ends the connection.
func (l *Link) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	if l.conn != nil {
		l.conn.end(ErrClosed)
	}
}

// Version is the version spoken on the present connection, "" if there is none.
func (l *Link) Version() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.conn == nil || l.conn.over():
		return ""
	case l.conn.key.Clear():
		return radius.Version11
	}
	return radius.Version10
}

// Build writes a request with an identifier and an authenticator, for the key of a connection. The authenticator that
// the answer belongs to is returned, which is another one where it follows from the packet.
type Build func(identifier byte, authenticator [16]byte, key *radius.Key) (packet []byte, proof [16]byte, err error)

// Accept takes an answer to a request with the authenticator that proves it; an error passes it over.
type Accept func(answer []byte, proof [16]byte, key *radius.Key) error

// Ask sends a request and waits for its answer. One that was lost with its connection is sent once more.
func (l *Link) Ask(ctx context.Context, build Build, accept Accept) error {
	for again := false; ; again = true {
		c, err := l.get(ctx)
		if err != nil {
			return err
		}
		if err = c.ask(ctx, l.timeout, build, accept); !errors.Is(err, ErrClosed) || again || ctx.Err() != nil {
			return err
		}
	}
}

// get returns the connection, and makes it if there is none. Those who wait for it share one attempt.
func (l *Link) get(ctx context.Context) (*linkConn, error) {
	for {
		l.mu.Lock()
		switch {
		case l.closed:
			l.mu.Unlock()
			return nil, errors.New("the server is no longer in use")
		case l.conn != nil && !l.conn.over():
			defer l.mu.Unlock()
			return l.conn, nil
		case l.dialing == nil && time.Since(l.failed) < redial:
			defer l.mu.Unlock()
			return nil, l.err
		case l.dialing == nil:
			l.dialing = make(chan struct{})
			go l.dial(l.dialing)
		}
		wait := l.dialing
		l.mu.Unlock()
		select {
		case <-wait:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (l *Link) dial(done chan struct{}) {
	ctx, cancel := context.WithTimeout(context.Background(), dialTime)
	defer cancel()
	c, err := l.connect(ctx)
	l.mu.Lock()
	defer l.mu.Unlock()
	defer close(done)
	l.dialing = nil
	if err != nil {
		l.failed, l.err = time.Now(), err
		return
	}
	l.conn = c
	c.begin(l.timeout)
	if l.closed {
		l.conn.end(ErrClosed)
	}
}

func (l *Link) connect(ctx context.Context) (*linkConn, error) {
	if l.datagrams {
		conn, err := l.dialDTLS(ctx)
		if err != nil {
			return nil, fmt.Errorf("connecting over DTLS: %w", err)
		}
		return &linkConn{conn: conn, by: "DTLS", key: radius.NewKey([]byte(radius.DTLSSecret)), out: datagrams{conn},
			receive: datagrams{conn}.next,
			slots:   make(chan struct{}, maxInFlight10), again: resend}, nil
	}
	plain := &net.Dialer{KeepAlive: idleFor}
	if l.from.IsValid() {
		plain.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(l.from, 0))
	}
	dialer := tls.Dialer{NetDialer: plain, Config: l.config}
	raw, err := dialer.DialContext(ctx, "tcp", l.address)
	if err != nil {
		return nil, fmt.Errorf("connecting over TLS: %w", err)
	}
	conn := raw.(*tls.Conn)
	reader := bufio.NewReaderSize(conn, 16<<10)
	c := &linkConn{conn: conn, by: "TLS", receive: func(buf []byte) ([]byte, error) {
		return radius.ReadPacket(reader, buf)
	},
		key: radius.NewKey([]byte(radius.TLSSecret)), out: outlet.New(conn,
			maxPending, sendTime), slots: make(chan struct{}, maxInFlight10)}
	if conn.ConnectionState().NegotiatedProtocol == radius.Version11 {
		c.key, c.slots = radius.NewClearKey(), make(chan struct{}, maxInFlight11)
	}
	return c, nil
}

// linkConn is one connection.
type linkConn struct {
	conn    net.Conn
	by      string // TLS or DTLS
	key     *radius.Key
	out     sender
	receive func(buf []byte) ([]byte, error) // reads a packet
	slots   chan struct{}
	again   time.Duration // after which a request is sent again, 0 for never
	heard   atomic.Int64  // when something came last, in nanoseconds since 1970

	mu      sync.Mutex
	waiting map[uint32]*pending
	next    uint32
	ended   chan struct{}
	cause   error
}

// pending is a request that waits for its answer.
type pending struct {
	accept func(answer []byte) error
	err    error // of the last answer that was passed over
	done   chan struct{}
}

// sender sends packets without waiting, and reports whether the connection still stands.
type sender interface{ Send(packet []byte) bool }

// begin begins to read.
func (c *linkConn) begin(timeout time.Duration) {
	c.waiting, c.ended = map[uint32]*pending{}, make(chan struct{})
	c.heard.Store(time.Now().UnixNano())
	go c.read()
	go c.watch(timeout)
}

func (c *linkConn) over() bool {
	select {
	case <-c.ended:
		return true
	default:
		return false
	}
}

// end ends the connection, once; whoever waits gets to know.
func (c *linkConn) end(cause error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.over() {
		return
	}
	c.cause = cause
	close(c.ended)
	c.conn.SetDeadline(time.Now())
	go c.conn.Close()
}

// ask sends a request and waits for its answer.
func (c *linkConn) ask(ctx context.Context, timeout time.Duration, build Build, accept Accept) error {
	timer := time.NewTimer(timeout)
	defer timer.Stop()
	select {
	case c.slots <- struct{}{}:
		defer func() { <-c.slots }()
	case <-timer.C:
		return fmt.Errorf("%d requests wait on this connection already", cap(c.slots))
	case <-c.ended:
		return c.lost()
	case <-ctx.Done():
		return ctx.Err()
	}
	begun := time.Now()
	p := &pending{done: make(chan struct{})}
	id := c.enter(p)
	defer c.leave(id)
	packet, proof, err := build(byte(id), c.authenticator(id), c.key)
	if err != nil {
		return err
	}
	c.mu.Lock()
	p.accept = func(answer []byte) error { return accept(answer, proof, c.key) }
	c.mu.Unlock()
	if !c.out.Send(packet) {
		c.end(errors.New("the other side does not read what is sent"))
	}
	var tick <-chan time.Time
	if c.again > 0 {
		ticker := time.NewTicker(c.again)
		defer ticker.Stop()
		tick = ticker.C
	}
	for late := false; !late; {
		select {
		case <-p.done:
			return nil
		case <-timer.C:
			late = true
		case <-tick:
			c.out.Send(packet)
		case <-ctx.Done():
			return ctx.Err()
		case <-c.ended:
			return c.lost()
		}
	}
	if c.heard.Load() < begun.UnixNano() { // nothing at all came back
		c.end(ErrNoAnswer)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if p.err != nil {
		return p.err
	}
	return fmt.Errorf("%w within %v over %s", ErrNoAnswer, timeout, c.by)
}

func (c *linkConn) lost() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return fmt.Errorf("%w: %w", ErrClosed, c.cause)
}

// enter gives a request a number that no other on this connection has.
func (c *linkConn) enter(p *pending) uint32 {
	c.mu.Lock()
	defer c.mu.Unlock()
	for {
		c.next++
		id := c.next
		if !c.key.Clear() {
			id &= 0xff
		}
		if c.waiting[id] == nil {
			c.waiting[id] = p
			return id
		}
	}
}

func (c *linkConn) leave(id uint32) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.waiting, id)
}

// authenticator is random in version 1.0; in 1.1 the Token stands in its first octets.
func (c *linkConn) authenticator(id uint32) (out [16]byte) {
	if c.key.Clear() {
		binary.BigEndian.PutUint32(out[:], id)
		return out
	}
	rand.Read(out[:])
	return out
}

// read takes answers until the connection ends.
func (c *linkConn) read() {
	buf := make([]byte, 2*radius.MaxSize)
	for {
		packet, err := c.receive(buf)
		if err != nil {
			c.end(err)
			return
		}
		c.heard.Store(time.Now().UnixNano())
		c.deliver(packet)
	}
}

func (c *linkConn) deliver(packet []byte) {
	id := uint32(packet[1])
	if c.key.Clear() {
		id = binary.BigEndian.Uint32(packet[4:])
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	p := c.waiting[id]
	if p == nil || p.accept == nil { // late
		return
	}
	if p.err = p.accept(packet); p.err == nil {
		delete(c.waiting, id)
		close(p.done)
	}
}

// watch asks whether the other side is there when nothing was heard of it for a while.
func (c *linkConn) watch(timeout time.Duration) {
	tick := time.NewTicker(idleFor / 4)
	defer tick.Stop()
	for {
		select {
		case <-c.ended:
			return
		case <-tick.C:
		}
		if time.Since(time.Unix(0, c.heard.Load())) < idleFor {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), timeout+time.Second)
		err := c.ask(ctx, timeout, buildStatus, acceptStatus)
		cancel()
		if err != nil {
			c.end(fmt.Errorf("it does not answer Status-Server: %w", err))
		}
	}
}

// buildStatus writes a Status-Server (RFC 5997).
func buildStatus(identifier byte, authenticator [16]byte, key *radius.Key) ([]byte, [16]byte, error) {
	data, err := radius.NewRequest(radius.StatusServer, identifier, authenticator, true).SignRequest(key)
	return data, authenticator, err
}

// acceptStatus takes any proven answer to a Status-Server.
func acceptStatus(answer []byte, proof [16]byte, key *radius.Key) error {
	p, err := radius.Decode(answer)
	if err != nil {
		return err
	}
	if err := key.VerifyReply(&p, proof); err != nil && !errors.Is(err, radius.ErrNoMessageAuth) {
		return err
	}
	return nil
}
