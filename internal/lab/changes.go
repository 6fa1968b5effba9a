package lab

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"tollgate.example/key/internal/wire/radius"
)

// Manner is how a stand-in takes changes of authorization.
type Manner int

// The manners.
const (
	// Willing does what it is asked for.
	Willing Manner = iota
	// NoCoA ends sessions, and refuses to change them.
	NoCoA
	// Mute answers nothing.
	Mute
)

// Causes of refusals (RFC 5176 section 3.5).
const (
	causeUnsupportedService = 405
	causeNoSession          = 503
)

// freshness is how far the clock of who asks may be off (RFC 5176 section 6.3).
const freshness = 5 * time.Minute

// Changes is a stand-in for the side of a client that takes changes of authorization (RFC 5176).
type Changes struct {
	socket *net.UDPConn
	tls    net.Listener // instead of the socket
	key    *radius.Key
	manner Manner
	done   sync.WaitGroup

	mu    sync.Mutex
	open  map[string]func(*radius.Packet) // by Acct-Session-Id: what to do
	Taken []string                        // the codes of what was asked for, by session
}

// TakeChanges listens on an address.
func TakeChanges(address, secret string, manner Manner) (*Changes, error) {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return nil, fmt.Errorf("the address that takes changes: %w", err)
	}
	socket, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, fmt.Errorf("taking changes: %w", err)
	}
	c := &Changes{socket: socket, key: radius.NewKey([]byte(secret)), manner: manner,
		open: map[string]func(*radius.Packet){}}
	c.done.Go(c.run)
	return c, nil
}

// TakeChangesTLS listens on an address by TLS, for RADIUS/1.1 (RFC 9765).
func TakeChangesTLS(address string, cfg *tls.Config, manner Manner) (*Changes, error) {
	cfg = cfg.Clone()
	cfg.MinVersion, cfg.NextProtos = tls.VersionTLS13, []string{radius.Version11}
	cfg.ClientAuth, cfg.ClientCAs = tls.RequireAndVerifyClientCert, cfg.RootCAs
	l, err := tls.Listen("tcp", address, cfg)
	if err != nil {
		return nil, fmt.Errorf("taking changes over TLS: %w", err)
	}
	c := &Changes{tls: l, key: radius.NewClearKey(), manner: manner, open: map[string]func(*radius.Packet){}}
	c.done.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go c.stream(conn)
		}
	})
	return c, nil
}

// stream answers what comes on one connection.
func (c *Changes) stream(conn net.Conn) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	for {
		data, err := radius.ReadPacket(in, make([]byte, radius.MaxSize))
		if err != nil {
			return
		}
		reply := c.take(data)
		if reply == nil {
			continue
		}
		if _, err := conn.Write(reply); err != nil {
			return
		}
	}
}

// Address is where it listens.
func (c *Changes) Address() netip.AddrPort {
	if c.tls != nil {
		return c.tls.Addr().(*net.TCPAddr).AddrPort()
	}
	return c.socket.LocalAddr().(*net.UDPAddr).AddrPort()
}

// Close ends it.
func (c *Changes) Close() {
	if c.tls != nil {
		c.tls.Close()
	} else {
		c.socket.Close()
	}
	c.done.Wait()
}

// Open notes a session, and what is done when it is asked for.
func (c *Changes) Open(session string, do func(*radius.Packet)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.open[session] = do
}

// End forgets a session.
func (c *Changes) End(session string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.open, session)
}

// Asked lists what was asked for so far: the code, and the session.
func (c *Changes) Asked() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]string(nil), c.Taken...)
}

func (c *Changes) run() {
	buf := make([]byte, radius.MaxSize)
	for {
		n, from, err := c.socket.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		if reply := c.take(bytes.Clone(buf[:n])); reply != nil {
			c.socket.WriteToUDPAddrPort(reply, from)
		}
	}
}

// take answers one request; nil if it is to be discarded.
func (c *Changes) take(data []byte) []byte {
	p, err := radius.Decode(data)
	if err != nil || p.Code != radius.DisconnectRequest && p.Code != radius.CoARequest || !c.key.VerifyFixed(&p) ||
		!c.key.Clear() && !p.Has(radius.MessageAuthenticator) || c.manner == Mute {
		return nil
	}
	at, ok := p.Integer(radius.EventTimestamp)
	if !ok || time.Since(time.Unix(int64(at), 0)).Abs() > freshness {
		return nil
	}
	session := string(p.Get(radius.AcctSessionID))
	c.mu.Lock()
	do, known := c.open[session]
	c.Taken = append(c.Taken, p.Code.String()+" "+session)
	c.mu.Unlock()
	code, cause := p.Code+1, uint32(0)
	switch {
	case !known:
		code, cause = p.Code+2, causeNoSession
	case p.Code == radius.CoARequest && c.manner == NoCoA:
		code, cause = p.Code+2, causeUnsupportedService
	}
	b := radius.NewReply(nil, code, p.Identifier)
	if cause != 0 {
		b.Add(radius.ErrorCause, binary.BigEndian.AppendUint32(nil, cause))
	}
	reply, err := b.SignReply(c.key, p.Authenticator)
	if err != nil {
		return nil
	}
	if cause == 0 && do != nil {
		go do(&p)
	}
	return reply
}
