package radius

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/front/radius/access"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/radius"
)

// port is what authentication and accounting have in common: sockets, whose request it is, retransmissions, and how
// many requests are worked on at once.
type port struct {
	gate    *gate.Gate
	sources *sources.Registry
	// what is served, in words; codes are the requests that are taken.
	what  string
	codes []radius.Code
	// most bounds the requests under way at once, a quarter of it those of one client. Beyond that requests are
	// discarded, and the client asks again.
	most       int64
	conns      []*socket
	duplicates *duplicates
	inFlight   atomic.Int64
	shares     shares
	readers    sync.WaitGroup
	ctx        context.Context
	cancel     context.CancelFunc
}

// incoming is a request with whose it is.
type incoming struct {
	access.Request
	// line is where it came from, and where the reply goes.
	line line
	// keys are those that may prove it.
	keys  *snapshot.ClientKeys
	from  netip.AddrPort
	back  route
	id    request
	entry *answer
	share *atomic.Int64
}

// line sends replies: a socket, or a connection.
type line interface {
	// send does not wait, and ignores errors: the client asks again if the reply is lost, for whatever reason.
	send(reply []byte, to netip.AddrPort, back route)
}

// setUp prepares everything but the sockets.
func (p *port) setUp(g *gate.Gate, registry *sources.Registry, what string, most int64, codes ...radius.Code) {
	p.gate, p.sources, p.what, p.codes, p.most, p.duplicates = g, registry, what, codes, most, newDuplicates()
	p.ctx, p.cancel = context.WithCancel(context.Background())
}

// open opens the sockets of the addresses (host:port, IPv4 or IPv6); if one cannot be, none stays open.
func (p *port) open(addresses []string) (err error) {
	p.conns, err = openAll(p.what, addresses, openSocket)
	return err
}

// openAll opens each of some addresses; if one cannot be, none stays open.
func openAll[T io.Closer](what string, addresses []string, open func(string) (T, error)) (out []T, err error) {
	for _, address := range addresses {
		one, err := open(address)
		if err != nil {
			for _, before := range out {
				before.Close()
			}
			return nil, fmt.Errorf("listening for %s on %s: %w", what, address, err)
		}
		out = append(out, one)
	}
	return out, nil
}

// listen begins to take requests. What take is given is used again for the next one.
func (p *port) listen(take func(*incoming)) {
	for _, s := range p.conns {
		p.readers.Go(func() { p.read(s, take) })
	}
}

// Addresses are the addresses really listened on.
func (p *port) Addresses() (out []netip.AddrPort) {
	for _, s := range p.conns {
		out = append(out, s.LocalAddr().(*net.UDPAddr).AddrPort())
	}
	return out
}

// close stops reading and lets what is under way end, which finish waits for, for two seconds at most before it is told
// to.
func (p *port) close(finish func()) {
	for _, s := range p.conns {
		s.SetReadDeadline(time.Now())
	}
	p.readers.Wait()
	timer := time.AfterFunc(2*time.Second, p.cancel)
	finish()
	timer.Stop()
	p.cancel()
}

func (p *port) closeSockets() {
	for _, s := range p.conns {
		s.Close()
	}
}

func (p *port) read(s *socket, take func(*incoming)) {
	buf, in := make([]byte, radius.MaxSize+1), new(incoming)
	for {
		n, from, back, err := s.receive(buf)
		if err != nil {
			if ne, ok := err.(net.Error); ok && ne.Timeout() {
				return
			}
			if p.ctx.Err() != nil {
				return
			}
			slog.Warn("reading from the socket for "+p.what, "error", err)
			time.Sleep(time.Millisecond)
			continue
		}
		*in = incoming{line: s, from: from, back: back}
		p.packet(in, buf[:n], take)
	}
}

// packet finds the client of a packet and reads it, in the order of the checks that cost least. A fault of ours in one
// packet does not end the reading of all others.
func (p *port) packet(in *incoming, data []byte, take func(*incoming)) {
	defer p.gate.Panics.Catch(func() string { return "a packet from " + in.from.String() + ", " + p.what }, nil)
	in.Begun, in.From, in.Snapshot = time.Now(), in.from.Addr().Unmap().WithZone(""), p.gate.Current()
	if in.Client = in.Snapshot.Plan.Client(in.From); in.Client == nil {
		p.sources.Discard(in.From, "", sources.UnknownClient, "", in.Begun)
		return
	}
	if !in.Client.Enabled {
		p.discard(in, sources.Disabled, "")
		return
	}
	in.keys = &in.Snapshot.Keys(in.Client).RADIUS
	p.decode(in, data, take)
}

// decode reads a packet whose client is known, and reports whether it is one.
func (p *port) decode(in *incoming, data []byte, take func(*incoming)) bool {
	var err error
	if in.Packet, err = radius.Decode(data); err != nil {
		p.discard(in, sources.Malformed, err.Error())
		return false
	}
	if !slices.Contains(p.codes, in.Packet.Code) {
		p.discard(in, sources.WrongCode, in.Packet.Code.String()+" where "+p.what+" is expected")
		return true
	}
	in.id = request{in.from, in.Packet.Identifier}
	take(in)
	return true
}

// discard notes why a request is not answered.
func (p *port) discard(in *incoming, fault sources.Fault, detail string) {
	p.sources.Discard(in.From, in.Client.ID, fault, detail, time.Now())
}

// admit takes a place for a request that is proven, and reports whether it is to be worked on: a retransmission is
// answered from memory, or will be, and one that finds no place is forgotten, so that its retransmission may.
func (p *port) admit(in *incoming) bool {
	if !in.keys.Current.Clear() { // RADIUS/1.1 knows no retransmissions (RFC 9765 section 6.5)
		entry, reply, again := p.duplicates.arrive(in.id, in.Packet.Authenticator, in.Begun)
		if again {
			if reply != nil {
				in.line.send(reply, in.from, in.back)
			}
			return false
		}
		in.entry = entry
	}
	in.share = p.shares.get(in.Client.ID)
	busy := p.begin(in.share)
	for until := in.Begun.Add(holdUp); busy != "" && in.Stream() && time.Now().Before(until); {
		time.Sleep(time.Millisecond) // who asks by a connection is held up, and sends less
		busy = p.begin(in.share)
	}
	if busy != "" {
		p.duplicates.forget(in.id, in.entry)
		p.discard(in, sources.Busy, busy)
		return false
	}
	return true
}

// holdUp is how long a connection is not read from while there is no place for its requests.
const holdUp = 5 * time.Second

// begin takes a place for a request, or says why there is none. end gives it back.
func (p *port) begin(share *atomic.Int64) string {
	if share.Add(1) > p.most/4 {
		share.Add(-1)
		return fmt.Sprintf("more than %d of one client at once", p.most/4)
	}
	if p.inFlight.Add(1) > p.most {
		p.end(share)
		return fmt.Sprintf("more than %d at once", p.most)
	}
	return ""
}

func (p *port) end(share *atomic.Int64) {
	share.Add(-1)
	p.inFlight.Add(-1)
}

// shares count the requests under way of each client.
type shares struct{ of sync.Map }

func (s *shares) get(client string) *atomic.Int64 {
	if n, ok := s.of.Load(client); ok {
		return n.(*atomic.Int64)
	}
	n, _ := s.of.LoadOrStore(client, &atomic.Int64{})
	return n.(*atomic.Int64)
}
