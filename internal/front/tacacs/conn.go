package tacacs

import (
	"bufio"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/front/secure"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/tacacs"
)

const (
	// bodyTime is how long the rest of a packet may take, beginTime how long a connection may be silent before its
	// first packet, typeTime how long somebody may take to type, idleTime how long a connection that is kept may rest.
	bodyTime  = 10 * time.Second
	beginTime = 20 * time.Second
	typeTime  = 2 * time.Minute
	idleTime  = 30 * time.Minute
	sendTime  = 10 * time.Second
	// maxSessions bounds the sessions that are open on one connection, maxAtOnce those that are worked on at a time.
	maxSessions = 256
	maxAtOnce   = 64
	readBuffer  = 512
)

// conn is one connection of a client that speaks TACACS+.
type conn struct {
	// raw is the connection itself, which Close may reach for at any time; conn is what is spoken over, TLS or the
	// same.
	raw, conn net.Conn
	place     *secure.Place
	t         *Server
	addr      netip.Addr
	tried     string
	in        *bufio.Reader
	peer      *secure.Peer // over TLS, where bodies are not obfuscated
	known     bool         // a packet came out right
	single    bool         // agreed with the first packet
	first     bool
	closing   atomic.Bool
	sending   sync.Mutex
	slots     chan struct{}
	working   sync.WaitGroup

	mu       sync.Mutex
	sessions map[uint32]*openSession
}

// openSession is a session with the key that its packets are obfuscated with.
type openSession struct {
	*Session
	key  []byte
	busy bool
}

func newConn(t *Server, raw net.Conn, addr netip.Addr, tried string) *conn {
	return &conn{raw: raw, conn: raw, t: t, addr: addr, tried: tried, in: bufio.NewReaderSize(raw, readBuffer),
		first: true, sessions: map[uint32]*openSession{}}
}

// client is who the connection belongs to under what is in effect now, nil if nobody any more.
func (c *conn) client(s *snapshot.Snapshot) *config.Client {
	if c.peer != nil {
		return c.peer.Client(s)
	}
	return s.Plan.Client(c.addr)
}

// secure reports whether bodies are not obfuscated: within TLS, and in a trial within the process.
func (c *conn) secure() bool { return c.peer != nil || c.tried != "" }

// run reads packets until the connection ends.
func (c *conn) run() {
	defer c.end()
	defer c.t.gate.Panics.Catch(func() string { return "a TACACS+ connection from " + c.addr.String() }, func() {
		c.fault(sources.Panicked, "")
	})
	var raw [tacacs.HeaderSize]byte
	for {
		c.raw.SetReadDeadline(time.Now().Add(c.patience()))
		if c.closing.Load() {
			return
		}
		if _, err := io.ReadFull(c.in, raw[:]); err != nil {
			if errors.Is(err, io.ErrUnexpectedEOF) {
				c.fault(sources.BadGear, "the connection ended within a header")
			}
			return
		}
		h, err := tacacs.ParseHeader(&raw)
		if err != nil {
			c.fault(sources.BadGear, err.Error())
			switch {
			case errors.Is(err, tacacs.ErrLength):
				c.refuse(h, nil, err.Error())
			// RFC 8907 section 4.4: the same header, one further, and nothing behind it
			case errors.Is(err, tacacs.ErrType):
				h.Seq, h.Length = h.Seq+1, 0
				c.write(h.Append(nil))
			}
			return
		}
		c.raw.SetReadDeadline(time.Now().Add(bodyTime))
		body := make([]byte, h.Length)
		if _, err := io.ReadFull(c.in, body); err != nil {
			c.fault(sources.BadGear, "the connection ended, or was silent, within a body")
			return
		}
		if !c.packet(h, body) {
			return
		}
	}
}

// patience is how long the next packet is waited for.
func (c *conn) patience() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.single:
		return idleTime
	case len(c.sessions) > 0:
		return typeTime
	}
	return beginTime
}

// end gives up what is open.
func (c *conn) end() {
	c.working.Wait()
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.sessions {
		c.giveUp(s, "the connection ended")
	}
}

func (c *conn) giveUp(s *openSession, why string) {
	defer c.t.gate.Panics.Catch(func() string { return "giving up a TACACS+ session from " + c.addr.String() }, nil)
	s.Close(c.t.ctx, why)
}

func (c *conn) fault(fault sources.Fault, detail string) {
	id := ""
	if client := c.client(c.t.gate.Current()); client != nil {
		id = client.ID
	}
	c.t.sources.Discard(c.addr, id, fault, detail, time.Now())
}

// packet takes one packet. It reports whether the connection may go on.
func (c *conn) packet(h tacacs.Header, body []byte) bool {
	if c.first {
		c.first, c.single = false, h.Flags&tacacs.Single != 0
		if c.single {
			c.slots = make(chan struct{}, maxAtOnce)
		}
	}
	s, ok := c.find(h, body)
	if !ok {
		return false
	}
	if !c.single { // the only session; nobody else waits
		return c.step(s, h, body) && !s.Over()
	}
	c.slots <- struct{}{}
	c.working.Add(1)
	c.t.jobs.Go(func() {
		defer func() {
			<-c.slots
			c.working.Done()
		}()
		if !c.step(s, h, body) {
			c.closing.Store(true)
			c.raw.SetReadDeadline(time.Now())
		}
	})
	return true
}

// find returns the session of a packet, and shows its body. With ok false the connection has to end.
func (c *conn) find(h tacacs.Header, body []byte) (s *openSession, ok bool) {
	snapshot := c.t.gate.Current()
	client := c.client(snapshot)
	if client == nil || !client.Enabled {
		c.fault(sources.Disabled, "TACACS+")
		return nil, false
	}
	if h.Seq == 1 && !c.stillProves(snapshot, client) {
		return nil, false
	}
	c.mu.Lock()
	s = c.sessions[h.Session]
	open := len(c.sessions)
	busy := s != nil && s.busy
	c.mu.Unlock()
	wrong := ""
	switch {
	case busy:
		wrong = "a packet of a session came before the last one was answered"
	case s != nil && h.Seq == 1:
		wrong = "the identifier of a session that is open began another one"
	case s == nil && h.Seq != 1:
		wrong = "a session that was never begun, or is over, goes on"
	case s == nil && open >= maxSessions:
		wrong = "more sessions are open on one connection than are allowed"
	case s == nil && open > 0 && !c.single:
		wrong = "a second session began on a connection for one"
	}
	key, readable := c.show(h, body, &snapshot.Keys(client).Gear, client, s)
	if !readable {
		return nil, false
	}
	if wrong != "" {
		c.fault(sources.BadGear, wrong)
		c.refuse(h, key, wrong)
		if s != nil && !busy {
			c.mu.Lock()
			delete(c.sessions, h.Session)
			c.mu.Unlock()
			c.giveUp(s, wrong)
		}
		return nil, false
	}
	if s == nil {
		s = &openSession{Session: newSession(c.t.gate.Gear(snapshot), peer{client, c.addr, c.tried}, h.Type), key: key}
		if c.tried == "" {
			c.t.sources.GoodGear(c.addr, client.ID, time.Now())
			if c.peer != nil {
				c.t.sources.GoodTLS(c.addr, time.Now())
			}
		}
	}
	c.mu.Lock()
	s.busy = true
	c.sessions[h.Session] = s
	c.mu.Unlock()
	return s, true
}

// show reverses the obfuscation of a body, in place, and returns the key it was obfuscated with; nil for one that was
// not.
func (c *conn) show(h tacacs.Header, body []byte, keys *snapshot.GearKeys, client *config.Client,
	s *openSession) (key []byte, ok bool) {
	if h.Flags&tacacs.Plain != 0 {
		if c.secure() || client.TACACSPlain {
			return nil, true
		}
		c.fault(sources.PlainBody, "")
		c.refuse(h, nil, "packets must be obfuscated")
		return nil, false
	}
	if c.secure() { // RFC 9887 section 4: never obfuscated there
		c.fault(sources.BadGear, "an obfuscated body within TLS")
		c.refuse(h, nil, "packets are not obfuscated within TLS")
		return nil, false
	}
	list := keys.At(time.Now())
	if s != nil && s.key != nil {
		list = [][]byte{s.key}
	}
	for _, key := range list {
		h.Obfuscate(body, key)
		if shaped(&h, body) {
			if !c.known {
				c.known = true
				c.place.Proven()
			}
			return key, true
		}
		h.Obfuscate(body, key) // as it was
	}
	c.fault(sources.WrongGearSecret, "the body comes out as garbage")
	if len(list) > 0 {
		c.refuse(h, list[0], "the shared secrets do not match")
	}
	return nil, false
}

// refuse answers what cannot be taken with an error of its type.
func (c *conn) refuse(h tacacs.Header, key []byte, detail string) {
	c.send(h, key, Refusal(h.Type, detail))
}

// step takes one packet of a session and answers it. It reports whether the connection may go on.
func (c *conn) step(s *openSession, h tacacs.Header, body []byte) (goesOn bool) {
	defer c.t.gate.Panics.Catch(func() string { return "a TACACS+ session from " + c.addr.String() }, func() {
		c.fault(sources.Panicked, "")
	})
	reply, err := s.Step(c.t.ctx, h, body)
	ends := false
	if fault := (*Fault)(nil); errors.As(err, &fault) {
		c.fault(sources.BadGear, fault.Detail)
		ends = !fault.Mild
	}
	c.mu.Lock()
	s.busy = false
	if s.Over() {
		delete(c.sessions, h.Session)
	}
	c.mu.Unlock()
	return (reply == nil || c.send(h, s.key, reply)) && !ends
}

// send sends a reply to a packet.
func (c *conn) send(to tacacs.Header, key, body []byte) bool {
	reply := tacacs.Header{Version: to.Version, Type: to.Type, Seq: to.Seq + 1, Session: to.Session}
	if c.single {
		reply.Flags = tacacs.Single
	}
	return c.write(reply.Packet(body, key))
}

func (c *conn) write(packet []byte) bool {
	c.sending.Lock()
	defer c.sending.Unlock()
	c.raw.SetWriteDeadline(time.Now().Add(sendTime))
	_, err := c.conn.Write(packet)
	return err == nil
}

func isClosed(err error) bool { return errors.Is(err, net.ErrClosed) }
