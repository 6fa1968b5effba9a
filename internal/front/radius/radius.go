// Package radius holds the sockets. For RADIUS over UDP it does what RFC 2865, 3579, 5080 and 5997 ask of a server
// before anybody is looked up: find the client, discard what has to be discarded (and count it where people can see
// it), prove the request, answer retransmissions from memory, hold refusals back.
package radius

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/workers"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/front/radius/access"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/radius"
)

const (
	// maxInFlight bounds the attempts worked on at once, maxOfOne those of one client; beyond it requests are
	// discarded, and the client asks again.
	maxInFlight = 4096
	maxOfOne    = maxInFlight / 4
	// workerIdle is how long a worker waits for another attempt before it ends.
	workerIdle = 5 * time.Second
	bufferSize = 4 << 20
)

// Server serves authentication over UDP.
type Server struct {
	gate       *gate.Gate
	sources    *sources.Registry
	conns      []*socket
	duplicates *duplicates
	delayer    *delayer
	inFlight   atomic.Int64
	shares     shares
	readers    sync.WaitGroup
	visits     *workers.Pool[*arrival]
	ctx        context.Context
	cancel     context.CancelFunc
}

// Serve opens the sockets of the addresses (host:port, IPv4 or IPv6) and begins to serve.
func Serve(g *gate.Gate, registry *sources.Registry, addresses []string) (*Server, error) {
	ctx, cancel := context.WithCancel(context.Background())
	r := &Server{gate: g, sources: registry, duplicates: newDuplicates(), delayer: newDelayer(g.Panics), ctx: ctx,
		cancel: cancel}
	r.visits = workers.New(workerIdle, r.visit)
	for _, address := range addresses {
		s, err := openSocket(address)
		if err != nil {
			r.Close()
			return nil, fmt.Errorf("listening for RADIUS on %s: %w", address, err)
		}
		r.conns = append(r.conns, s)
	}
	for _, s := range r.conns {
		r.readers.Go(func() { r.read(s) })
	}
	return r, nil
}

// Addresses are the addresses really listened on.
func (r *Server) Addresses() []netip.AddrPort {
	var out []netip.AddrPort
	for _, s := range r.conns {
		out = append(out, s.LocalAddr().(*net.UDPAddr).AddrPort())
	}
	return out
}

// Close stops reading, lets attempts under way end, and closes the sockets.
func (r *Server) Close() {
	for _, s := range r.conns {
		s.SetReadDeadline(time.Now())
	}
	r.readers.Wait()
	timer := time.AfterFunc(2*time.Second, r.cancel)
	r.visits.Close()
	timer.Stop()
	r.cancel()
	r.delayer.close()
	for _, s := range r.conns {
		s.Close()
	}
}

func (r *Server) read(s *socket) {
	s.packets(r.ctx, func(data []byte, from netip.AddrPort, back route) { r.guardedPacket(s, data, from, back) })
}

// packets hands over what arrives at a socket, until its read deadline.
func (s *socket) packets(ctx context.Context, take func(data []byte, from netip.AddrPort, back route)) {
	buf := make([]byte, radius.MaxSize+1)
	for {
		n, from, back, err := s.receive(buf)
		if err != nil {
			if ne, ok := err.(net.Error); ok && ne.Timeout() {
				return
			}
			if ctx.Err() != nil {
				return
			}
			slog.Warn("reading from the RADIUS socket", "error", err)
			time.Sleep(time.Millisecond)
			continue
		}
		take(buf[:n], from, back)
	}
}

// guardedPacket keeps a fault of ours in one packet from ending the reading of all others.
func (r *Server) guardedPacket(s *socket, data []byte, from netip.AddrPort, back route) {
	defer r.gate.Panics.Catch(func() string { return "a packet from " + from.String() }, nil)
	r.packet(s, data, from, back)
}

// shares count the attempts under way of each client.
type shares struct{ of sync.Map }

func (s *shares) get(client string) *atomic.Int64 {
	if n, ok := s.of.Load(client); ok {
		return n.(*atomic.Int64)
	}
	n, _ := s.of.LoadOrStore(client, &atomic.Int64{})
	return n.(*atomic.Int64)
}

// arrival is one request on its way to a reply.
type arrival struct {
	access.Request
	socket *socket
	from   netip.AddrPort
	back   route
	id     request
	entry  *answer
	share  *atomic.Int64
	// hand takes the reply instead of the socket, for a trial within the process.
	hand func([]byte)
}

// packet does everything that needs no lookup, in the order of the checks that cost least.
func (r *Server) packet(s *socket, data []byte, from netip.AddrPort, back route) {
	now := time.Now()
	addr := from.Addr().Unmap().WithZone("")
	snapshot := r.gate.Current()
	client := snapshot.Plan.Client(addr)
	if client == nil {
		r.sources.Discard(addr, "", sources.UnknownClient, "", now)
		return
	}
	discard := func(fault sources.Fault, detail string) { r.sources.Discard(addr, client.ID, fault, detail, now) }
	if !client.Enabled {
		discard(sources.Disabled, "")
		return
	}
	p, err := radius.Decode(data)
	if err != nil {
		discard(sources.Malformed, err.Error())
		return
	}
	if p.Code != radius.AccessRequest && p.Code != radius.StatusServer {
		discard(sources.WrongCode, p.Code.String())
		return
	}
	keys := &snapshot.Keys(client).RADIUS
	if keys.Current == nil {
		discard(sources.NoSecret, "RADIUS")
		return
	}
	a := arrival{Request: access.Request{Packet: p, Client: client, From: addr, Snapshot: snapshot, Begun: now},
		socket: s, from: from, back: back, id: request{from, p.Identifier}}
	if fault, detail := a.prove(keys, r.sources.Signs(addr)); fault != "" {
		discard(fault, detail)
		return
	}
	if p.Code == radius.StatusServer { // RFC 5997 section 3: never remembered, answered at once
		r.sources.Good(addr, client.ID, a.Signed, now)
		r.reply(&a, gate.Answer{Verdict: results.Admitted})
		return
	}
	entry, reply, again := r.duplicates.arrive(a.id, p.Authenticator, now)
	if again {
		if reply != nil {
			s.send(reply, from, back)
		}
		return
	}
	a.share = r.shares.get(client.ID)
	if busy := r.begin(a.share); busy != "" {
		r.duplicates.forget(a.id, entry)
		discard(sources.Busy, busy)
		return
	}
	r.sources.Good(addr, client.ID, a.Signed, now)
	a.entry = entry
	a.Packet, _ = radius.Decode(append([]byte(nil), p.Raw()...)) // the buffer is about to be read into again
	r.visits.Go(&a)
}

// begin takes a place for an attempt, or says why there is none. end gives it back.
func (r *Server) begin(share *atomic.Int64) string {
	if share.Add(1) > maxOfOne {
		share.Add(-1)
		return fmt.Sprintf("more than %d of one client at once", maxOfOne)
	}
	if r.inFlight.Add(1) > maxInFlight {
		r.end(share)
		return fmt.Sprintf("more than %d at once", maxInFlight)
	}
	return ""
}

func (r *Server) end(share *atomic.Int64) {
	share.Add(-1)
	r.inFlight.Add(-1)
}

// prove finds the key that the request was made with and checks what the client's mode asks for. The fault is "" if
// the request may go on.
func (a *arrival) prove(keys *snapshot.ClientKeys, signsUsually bool) (sources.Fault, string) {
	previous := keys.Previous
	if previous != nil && !a.Begun.Before(keys.Until) {
		previous = nil
	}
	p := &a.Packet
	a.Key = keys.Current
	if p.Has(radius.MessageAuthenticator) {
		a.Signed = true
		switch {
		case keys.Current.VerifyMessageAuthenticator(p):
		case previous != nil && previous.VerifyMessageAuthenticator(p):
			a.Key = previous
		default:
			return sources.WrongSecret, "the Message-Authenticator does not verify"
		}
		return "", ""
	}
	needs := p.Code == radius.StatusServer || p.Has(radius.EAPMessage)
	switch {
	case needs:
		return sources.NoAuthenticator, p.Code.String() + " always needs one"
	case a.Client.MessageAuthenticator == config.Require:
		return sources.NoAuthenticator, ""
	case a.Client.MessageAuthenticator == config.Auto && signsUsually:
		return sources.NoAuthenticator, "it was sent before, so its absence is suspicious"
	}
	if previous != nil && p.Has(radius.UserPassword) {
		var space [radius.MaxPassword]byte
		hidden := p.Get(radius.UserPassword)
		if clear, err := keys.Current.OpenPassword(space[:0], hidden, p.Authenticator); err == nil &&
			!access.Readable(clear) {
			if clear, err = previous.OpenPassword(space[:0], hidden, p.Authenticator); err == nil &&
				access.Readable(clear) {
				a.Key = previous
			}
		}
	}
	return "", ""
}

func (r *Server) visit(a *arrival) {
	defer r.end(a.share)
	defer r.gate.Panics.Catch(func() string { return "a request of " + a.Client.Name + " from " + a.from.String() },
		func() {
			r.sources.Discard(a.From, a.Client.ID, sources.Panicked, "", time.Now())
		})
	out := a.Answer(r.ctx, r.gate)
	if out.Discard {
		return
	}
	if out.Reason == reason.PasswordUnreadable {
		r.sources.Discard(a.From, a.Client.ID, sources.SuspectSecret, "", time.Now())
	}
	r.reply(a, out)
}

// reply signs the answer and sends it, refusals after their delay.
func (r *Server) reply(a *arrival, out gate.Answer) {
	code, size := access.Code(&out), 256
	if code == radius.AccessChallenge {
		size = 1280
	}
	b := radius.NewReply(make([]byte, 0, size), code, a.Packet.Identifier)
	access.Fill(b, &a.Packet, a.Key, &out)
	data, err := b.SignReply(a.Key, a.Packet.Authenticator)
	if err != nil { // only Proxy-State beyond all measure can do this
		r.sources.Discard(a.From, a.Client.ID, sources.Malformed, "the reply does not fit: "+err.Error(), time.Now())
		return
	}
	send := func() {
		if a.entry != nil {
			r.duplicates.answered(a.id, a.entry, data)
		}
		a.socket.send(data, a.from, a.back)
	}
	if a.hand != nil {
		a.hand(data)
		return
	}
	if code == radius.AccessReject {
		r.delayer.after(out.Delay, send)
		return
	}
	send()
}

// Waiting counts the attempts under way.
func (r *Server) Waiting() int { return int(r.inFlight.Load()) }
