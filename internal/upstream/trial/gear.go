package trial

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"tollgate.example/key/internal/wire/mschap"
	"tollgate.example/key/internal/wire/tacacs"
)

// Gear is a device that asks over TACACS+ (RFC 8907). It is safe for concurrent use; one session runs at a time.
type Gear struct {
	Server string // host:port
	// From is the local address to ask from, not valid for any.
	From netip.Addr
	// Secret obfuscates the bodies; "" sends them plain.
	Secret string
	// TLS asks over TLS 1.3 (RFC 9887), nil for plain TCP. Bodies are not obfuscated then.
	TLS *tls.Config
	// Dial takes the place of the network.
	Dial func(ctx context.Context) (net.Conn, error)
	// Single asks to keep the connection for further sessions.
	Single  bool
	Timeout time.Duration

	mu   sync.Mutex
	conn net.Conn
	kept bool // the server agreed to keep the connection
}

// ErrGearSecret is an answer that does not come out as one.
var ErrGearSecret = errors.New("the answer comes out as garbage: the shared secrets differ")

// Close ends the connection that was kept.
func (g *Gear) Close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.drop()
}

func (g *Gear) drop() {
	if g.conn != nil {
		g.conn.Close()
	}
	g.conn, g.kept = nil, false
}

func (g *Gear) dial(ctx context.Context) (net.Conn, error) {
	if g.Dial != nil {
		return g.Dial(ctx)
	}
	d := net.Dialer{Timeout: g.Timeout}
	if g.From.IsValid() {
		d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(g.From, 0))
	}
	raw, err := d.DialContext(ctx, "tcp", g.Server)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", g.Server, err)
	}
	if g.TLS == nil {
		return raw, nil
	}
	cfg := g.TLS.Clone()
	cfg.MinVersion = tls.VersionTLS13
	if cfg.ServerName == "" {
		cfg.ServerName, _, _ = net.SplitHostPort(g.Server)
	}
	secured := tls.Client(raw, cfg)
	if err := secured.HandshakeContext(ctx); err != nil {
		raw.Close()
		return nil, fmt.Errorf("TLS with %s: %w", g.Server, err)
	}
	return secured, nil
}

// session is one session of a device.
type gearSession struct {
	g      *Gear
	ctx    context.Context
	header tacacs.Header
}

// begin takes the connection for one session. end must follow.
func (g *Gear) begin(ctx context.Context, kind tacacs.Type, version byte) (*gearSession, error) {
	g.mu.Lock()
	if g.conn == nil {
		conn, err := g.dial(ctx)
		if err != nil {
			g.mu.Unlock()
			return nil, err
		}
		g.conn = conn
	}
	var id [4]byte
	rand.Read(id[:])
	s := &gearSession{g: g, ctx: ctx, header: tacacs.Header{Version: version, Type: kind, Seq: 1,
		Session: binary.BigEndian.Uint32(id[:])}}
	if g.Single {
		s.header.Flags = tacacs.Single
	}
	return s, nil
}

func (s *gearSession) end(err error) {
	if err != nil || !s.g.kept {
		s.g.drop()
	}
	s.g.mu.Unlock()
}

func (g *Gear) key() []byte {
	if g.Secret == "" || g.TLS != nil {
		return nil
	}
	return []byte(g.Secret)
}

// send sends a body.
func (s *gearSession) send(body []byte) error {
	limit := s.g.Timeout
	if limit == 0 {
		limit = 5 * time.Second
	}
	s.g.conn.SetDeadline(time.Now().Add(limit))
	if _, err := s.g.conn.Write(s.header.Packet(body, s.g.key())); err != nil {
		return fmt.Errorf("sending to %s: %w", s.g.Server, err)
	}
	return nil
}

// ask sends a body and waits for the answer.
func (s *gearSession) ask(body []byte) ([]byte, error) {
	conn := s.g.conn // the connection may be given up by the time that the context ends
	stop := context.AfterFunc(s.ctx, func() { conn.SetDeadline(time.Now()) })
	defer stop()
	if err := s.send(body); err != nil {
		return nil, err
	}
	var raw [tacacs.HeaderSize]byte
	if _, err := io.ReadFull(s.g.conn, raw[:]); errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s closed the connection without an answer: it does not know this address as a "+
			"client, or takes nothing from it here", s.g.Server)
	} else if err != nil {
		return nil, fmt.Errorf("waiting for the answer of %s: %w", s.g.Server, err)
	}
	h, err := tacacs.ParseHeader(&raw)
	if err != nil {
		return nil, err
	}
	if h.Session != s.header.Session || h.Type != s.header.Type || h.Seq != s.header.Seq+1 {
		return nil, fmt.Errorf("the answer belongs to another session: %+v", h)
	}
	reply := make([]byte, h.Length)
	if _, err := io.ReadFull(s.g.conn, reply); err != nil {
		return nil, err
	}
	if h.Flags&tacacs.Plain == 0 {
		h.Obfuscate(reply, []byte(s.g.Secret))
	}
	s.g.kept = s.g.Single && h.Flags&tacacs.Single != 0
	s.header.Seq += 2
	return reply, nil
}

// once asks one thing in a session of its own.
func (g *Gear) once(ctx context.Context, kind tacacs.Type, body []byte, read func([]byte) error) error {
	s, err := g.begin(ctx, kind, tacacs.VersionDefault)
	if err != nil {
		return err
	}
	reply, err := s.ask(body)
	if err == nil {
		err = read(reply)
	}
	s.end(err)
	return err
}

// Authorize asks for an authorization.
func (g *Gear) Authorize(ctx context.Context, q tacacs.Request) (out tacacs.AuthorReply, err error) {
	err = g.once(ctx, tacacs.Authorization, q.Append(nil), func(b []byte) error {
		if out, err = tacacs.ParseAuthorReply(b); err != nil {
			return ErrGearSecret
		}
		return nil
	})
	return out, err
}

// Account reports something.
func (g *Gear) Account(ctx context.Context, r tacacs.Record) (out tacacs.AcctReply, err error) {
	err = g.once(ctx, tacacs.Accounting, r.Append(nil), func(b []byte) error {
		if out, err = tacacs.ParseAcctReply(b); err != nil {
			return ErrGearSecret
		}
		return nil
	})
	return out, err
}

// Typist answers what a dialogue asks. With abort the dialogue is broken off.
type Typist func(asked tacacs.AuthenReply) (text string, abort bool)

// Authenticate signs in, with a dialogue if the START begins one. version is that of the kind.
func (g *Gear) Authenticate(ctx context.Context, start tacacs.Start, typist Typist) (tacacs.AuthenReply, error) {
	version := tacacs.VersionOne
	if start.Kind == tacacs.ASCII {
		version = tacacs.VersionDefault
	}
	s, err := g.begin(ctx, tacacs.Authentication, version)
	if err != nil {
		return tacacs.AuthenReply{}, err
	}
	out, err := s.authenticate(start.Append(nil), typist)
	s.end(err)
	return out, err
}

func (s *gearSession) authenticate(body []byte, typist Typist) (tacacs.AuthenReply, error) {
	for {
		raw, err := s.ask(body)
		if err != nil {
			return tacacs.AuthenReply{}, err
		}
		reply, err := tacacs.ParseAuthenReply(raw)
		if err != nil {
			return reply, ErrGearSecret
		}
		if reply.Status != tacacs.AuthenGetUser && reply.Status != tacacs.AuthenGetPass &&
			reply.Status != tacacs.AuthenGetData || typist == nil {
			return reply, nil
		}
		text, abort := typist(reply)
		c := tacacs.Continue{Message: []byte(text)}
		if abort {
			c = tacacs.Continue{Flags: tacacs.Abort, Data: []byte("somebody went away")}
			return reply, s.send(c.Append(nil))
		}
		body = c.Append(nil)
	}
}

// Credential makes the data of a START for a kind that sends its proof at once.
func Credential(kind tacacs.Kind, user, password string) []byte {
	var random [33]byte
	rand.Read(random[:])
	id, challenge := random[0], random[1:17]
	switch kind {
	case tacacs.CHAP:
		sum := mschap.CHAP(id, password, challenge)
		return append(append([]byte{id}, challenge...), sum[:]...)
	case tacacs.MSCHAP:
		nt := mschap.NTHash(password).V1([8]byte(challenge[:8]))
		return mschap.Response{NT: nt}.AppendValueV1(append([]byte{id}, challenge[:8]...))
	case tacacs.MSCHAPv2:
		peer := [16]byte(random[17:33])
		nt := mschap.NTHash(password).V1(mschap.Challenge(peer, [16]byte(challenge), user))
		return mschap.Response{Peer: peer, NT: nt}.AppendValueV2(append([]byte{id}, challenge...))
	}
	return []byte(password)
}
