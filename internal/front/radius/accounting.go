package radius

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/workers"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/front/radius/accounting"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/wire/radius"
)

// maxReports bounds the records under way at once, maxReportsOfOne those of one client. They only wait for the disk,
// and the more wait together, the more share a commit.
const (
	maxReports      = 8192
	maxReportsOfOne = maxReports / 4
)

// recordWithin is how long a record may wait for the disk. Clients send it again after a few seconds.
const recordWithin = 10 * time.Second

// Reporter takes what clients report, and returns when it is on the disk.
type Reporter interface {
	Report(ctx context.Context, r *session.Report) error
}

// Accounting serves accounting over UDP (RFC 2866). A request is answered when its record is on the disk, and not at
// all if it cannot be recorded: the client keeps it and asks again.
type Accounting struct {
	gate       *gate.Gate
	sources    *sources.Registry
	reporter   Reporter
	conns      []*socket
	duplicates *duplicates
	inFlight   atomic.Int64
	shares     shares
	readers    sync.WaitGroup
	records    *workers.Pool[*reported]
	ctx        context.Context
	cancel     context.CancelFunc
}

// reported is one record on its way to the disk.
type reported struct {
	report *session.Report
	socket *socket
	from   netip.AddrPort
	back   route
	id     request
	entry  *answer
	share  *atomic.Int64
	client *config.Client
	reply  []byte
}

// ServeAccounting opens the sockets of the addresses (host:port) and begins to serve.
func ServeAccounting(g *gate.Gate, registry *sources.Registry, reporter Reporter, addresses []string) (*Accounting,
	error) {
	ctx, cancel := context.WithCancel(context.Background())
	a := &Accounting{gate: g, sources: registry, reporter: reporter, duplicates: newDuplicates(), ctx: ctx,
		cancel: cancel}
	a.records = workers.New(workerIdle, a.record)
	for _, address := range addresses {
		s, err := openSocket(address)
		if err != nil {
			a.Close()
			return nil, fmt.Errorf("listening for accounting on %s: %w", address, err)
		}
		a.conns = append(a.conns, s)
	}
	for _, s := range a.conns {
		a.readers.Go(func() {
			s.packets(a.ctx, func(data []byte, from netip.AddrPort, back route) { a.guarded(s, data, from, back) })
		})
	}
	return a, nil
}

// Addresses are the addresses really listened on.
func (a *Accounting) Addresses() (out []netip.AddrPort) {
	for _, s := range a.conns {
		out = append(out, s.LocalAddr().(*net.UDPAddr).AddrPort())
	}
	return out
}

// Close stops reading, lets records under way end, and closes the sockets.
func (a *Accounting) Close() {
	for _, s := range a.conns {
		s.SetReadDeadline(time.Now())
	}
	a.readers.Wait()
	timer := time.AfterFunc(2*time.Second, a.cancel)
	a.records.Close()
	timer.Stop()
	a.cancel()
	for _, s := range a.conns {
		s.Close()
	}
}

func (a *Accounting) guarded(s *socket, data []byte, from netip.AddrPort, back route) {
	defer a.gate.Panics.Catch(func() string { return "an accounting packet from " + from.String() }, nil)
	a.packet(s, data, from, back)
}

// packet does everything that needs no disk.
func (a *Accounting) packet(s *socket, data []byte, from netip.AddrPort, back route) {
	now := time.Now()
	addr := from.Addr().Unmap().WithZone("")
	current := a.gate.Current()
	client := current.Plan.Client(addr)
	if client == nil {
		a.sources.Discard(addr, "", sources.UnknownClient, "accounting", now)
		return
	}
	discard := func(fault sources.Fault, detail string) { a.sources.Discard(addr, client.ID, fault, detail, now) }
	if !client.Enabled {
		discard(sources.Disabled, "")
		return
	}
	p, err := radius.Decode(data)
	switch {
	case err != nil:
		discard(sources.Malformed, err.Error())
		return
	case p.Code != radius.AccountingRequest && p.Code != radius.StatusServer:
		discard(sources.WrongCode, p.Code.String()+" on the port for accounting")
		return
	}
	key, fault, detail := proveFixed(&p, &current.Keys(client).RADIUS, now)
	if fault != "" {
		discard(fault, detail)
		return
	}
	r := reported{socket: s, from: from, back: back, id: request{from, p.Identifier}, client: client}
	if p.Code == radius.StatusServer {
		a.sources.Good(addr, client.ID, true, now)
		if reply, err := respond(&p, key); err == nil {
			s.send(reply, from, back)
		}
		return
	}
	entry, reply, again := a.duplicates.arrive(r.id, p.Authenticator, now)
	if again {
		if reply != nil {
			s.send(reply, from, back)
		}
		return
	}
	forget := func(fault sources.Fault, detail string) {
		a.duplicates.forget(r.id, entry)
		discard(fault, detail)
	}
	if r.report, err = accounting.Read(&p, client, current.Plan.Dictionary, addr, now); err != nil {
		forget(sources.Malformed, "accounting: "+err.Error())
		return
	}
	if r.reply, err = respond(&p, key); err != nil {
		forget(sources.Malformed, "the reply does not fit: "+err.Error())
		return
	}
	r.share = a.shares.get(client.ID)
	if busy := a.begin(r.share); busy != "" {
		forget(sources.Busy, busy)
		return
	}
	a.sources.Good(addr, client.ID, false, now)
	r.entry = entry
	a.records.Go(&r)
}

func (a *Accounting) begin(share *atomic.Int64) string {
	if share.Add(1) > maxReportsOfOne {
		share.Add(-1)
		return fmt.Sprintf("more than %d records of one client at once", maxReportsOfOne)
	}
	if a.inFlight.Add(1) > maxReports {
		share.Add(-1)
		a.inFlight.Add(-1)
		return fmt.Sprintf("more than %d records at once", maxReports)
	}
	return ""
}

// proveFixed finds the key that signed a request with a fixed authenticator. A Status-Server has a random one, and a
// Message-Authenticator instead (RFC 5997 section 3).
func proveFixed(p *radius.Packet, keys *snapshot.ClientKeys, now time.Time) (*radius.Key, sources.Fault, string) {
	if keys.Current == nil {
		return nil, sources.NoSecret, "RADIUS"
	}
	verify := (*radius.Key).VerifyFixed
	if p.Code == radius.StatusServer {
		if verify = (*radius.Key).VerifyMessageAuthenticator; !p.Has(radius.MessageAuthenticator) {
			return nil, sources.NoAuthenticator, p.Code.String() + " always needs one"
		}
	}
	switch {
	case verify(keys.Current, p):
		return keys.Current, "", ""
	case keys.Previous != nil && now.Before(keys.Until) && verify(keys.Previous, p):
		return keys.Previous, "", ""
	}
	return nil, sources.WrongSecret, "the authenticator of the " + p.Code.String() + " does not verify"
}

// respond makes an Accounting-Response, with the Proxy-States of the request, and a Message-Authenticator if that had
// one.
func respond(p *radius.Packet, key *radius.Key) ([]byte, error) {
	b := radius.NewRequest(radius.AccountingResponse, p.Identifier, [16]byte{}, p.Has(radius.MessageAuthenticator))
	for t, value := range p.Attributes() {
		if t == radius.ProxyState {
			b.Add(t, value)
		}
	}
	return b.SignReply(key, p.Authenticator)
}

// record waits for the disk, then answers.
func (a *Accounting) record(r *reported) {
	defer a.inFlight.Add(-1)
	defer r.share.Add(-1)
	address := r.from.Addr().Unmap().WithZone("")
	defer a.gate.Panics.Catch(func() string { return "accounting of " + r.client.Name + " from " + r.from.String() },
		func() {
			a.duplicates.forget(r.id, r.entry)
			a.sources.Discard(address, r.client.ID, sources.Panicked, "", time.Now())
		})
	if r.client.Sessions.Accounting != config.AnswerAccounting {
		ctx, cancel := context.WithTimeout(a.ctx, recordWithin)
		defer cancel()
		if err := a.reporter.Report(ctx, r.report); err != nil {
			a.duplicates.forget(r.id, r.entry)
			detail := err.Error()
			if errors.Is(err, context.DeadlineExceeded) {
				detail = "the disk took too long"
			}
			a.sources.Discard(address, r.client.ID, sources.NotRecorded, detail, time.Now())
			return
		}
	}
	a.duplicates.answered(r.id, r.entry, r.reply)
	r.socket.send(r.reply, r.from, r.back)
}
