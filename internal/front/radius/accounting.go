package radius

import (
	"context"
	"errors"
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

// maxReports bounds the records under way at once. They only wait for the disk, and the more wait together, the more
// share a commit.
const maxReports = 8192

// recordWithin is how long a record may wait for the disk. Clients send it again after a few seconds.
const (
	recordWithin = 10 * time.Second
	shareWithin  = time.Second
)

// Reporter takes what clients report, and returns when it is on the disk.
type Reporter interface {
	Report(ctx context.Context, r *session.Report) error
}

// Accounting serves accounting over UDP (RFC 2866). A request is answered when its record is on the disk, and not at
// all if it cannot be recorded: the client keeps it and asks again.
type Accounting struct {
	port
	reporter Reporter
	records  *workers.Pool[*reported]
	patience atomic.Pointer[patience]
}

// reported is one record on its way to the disk, with what it is answered with then.
type reported struct {
	incoming
	report *session.Report
	reply  []byte
}

// ServeAccounting opens the sockets of the addresses (host:port) and begins to serve.
func ServeAccounting(g *gate.Gate, registry *sources.Registry, reporter Reporter, addresses []string) (*Accounting,
	error) {
	a := &Accounting{reporter: reporter}
	a.setUp(g, registry, "accounting", maxReports, radius.AccountingRequest, radius.StatusServer)
	if err := a.open(addresses); err != nil {
		return nil, err
	}
	a.records = workers.New(workerIdle, a.record)
	a.listen(a.take)
	return a, nil
}

// Close stops reading, lets records under way end, and closes the sockets.
func (a *Accounting) Close() {
	a.close(a.records.Close)
	a.closeSockets()
}

// take does everything that needs no disk.
func (a *Accounting) take(in *incoming) {
	p := &in.Packet
	key, fault, detail := proveFixed(p, in.keys, in.Begun)
	if fault != "" {
		a.discard(in, fault, detail)
		return
	}
	reply, err := respond(p, key)
	if err != nil {
		a.discard(in, sources.Malformed, "the reply does not fit: "+err.Error())
		return
	}
	if p.Code == radius.StatusServer { // it is always signed, which says nothing about other requests
		a.sources.Good(in.From, in.Client.ID, false, in.Begun)
		in.line.send(reply, in.from, in.back)
		return
	}
	report, err := accounting.Read(p, in.Client, in.Snapshot.Plan.Dictionary, in.From, in.Begun)
	if err != nil {
		a.discard(in, sources.Malformed, "accounting: "+err.Error())
		return
	}
	report.Forwards, report.Raw = in.Accounting(report.OfDevice())
	if !a.admit(in) {
		return
	}
	a.sources.Good(in.From, in.Client.ID, false, in.Begun)
	a.records.Go(&reported{*in, report, reply})
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
	defer a.end(r.share)
	defer a.gate.Panics.Catch(func() string { return "accounting of " + r.Client.Name + " from " + r.from.String() },
		func() { a.unrecorded(r, sources.Panicked, "") })
	if r.Client.Sessions.Accounting != config.AnswerAccounting {
		switch err := a.reporter.Report(a.within(), r.report); {
		case errors.Is(err, session.ErrReplayed): // recorded, and not believed
			a.discard(&r.incoming, sources.Replayed, err.Error())
		case errors.Is(err, context.DeadlineExceeded):
			a.unrecorded(r, sources.NotRecorded, "the disk took too long")
			return
		case err != nil:
			a.unrecorded(r, sources.NotRecorded, err.Error())
			return
		}
	}
	a.duplicates.answered(r.id, r.entry, r.reply)
	r.line.send(r.reply, r.from, r.back)
}

// within is a context that ends after recordWithin, or up to a second later: records that come together share one.
func (a *Accounting) within() context.Context {
	now := time.Now()
	if p := a.patience.Load(); p != nil && now.Before(p.until) {
		return p.ctx
	}
	ctx, cancel := context.WithTimeout(a.ctx, recordWithin+shareWithin)
	context.AfterFunc(ctx, cancel)
	a.patience.Store(&patience{ctx, now.Add(shareWithin)})
	return ctx
}

// patience is a context that is handed out until a moment.
type patience struct {
	ctx   context.Context
	until time.Time
}

// unrecorded leaves a request without an answer, so that its retransmission is taken.
func (a *Accounting) unrecorded(r *reported, fault sources.Fault, detail string) {
	a.duplicates.forget(r.id, r.entry)
	a.discard(&r.incoming, fault, detail)
}
