// Package radius holds the sockets. For RADIUS over UDP it does what RFC 2865, 3579, 5080 and 5997 ask of a server
// before anybody is looked up: find the client, discard what has to be discarded (and count it where people can see
// it), prove the request, answer retransmissions from memory, hold refusals back.
package radius

import (
	"time"

	"tollgate.example/key/internal/base/workers"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/front/radius/access"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/manage/sources"
	"tollgate.example/key/internal/wire/radius"
)

const (
	// maxInFlight bounds the attempts worked on at once.
	maxInFlight = 4096
	// workerIdle is how long a worker waits for another attempt before it ends.
	workerIdle = 5 * time.Second
	bufferSize = 4 << 20
)

// Server serves authentication over UDP.
type Server struct {
	port
	delayer *delayer
	visits  *workers.Pool[*arrival]
}

// Serve opens the sockets of the addresses (host:port, IPv4 or IPv6) and begins to serve.
func Serve(g *gate.Gate, registry *sources.Registry, addresses []string) (*Server, error) {
	r := &Server{}
	r.setUp(g, registry, "RADIUS authentication", maxInFlight, radius.AccessRequest, radius.StatusServer)
	if err := r.open(addresses); err != nil {
		return nil, err
	}
	r.delayer, r.visits = newDelayer(g.Panics), workers.New(workerIdle, r.visit)
	r.listen(r.take)
	return r, nil
}

// Close stops reading, lets attempts under way end, and closes the sockets.
func (r *Server) Close() {
	r.close(r.visits.Close)
	r.delayer.close()
	r.closeSockets()
}

// arrival is one request on its way to a reply.
type arrival struct {
	incoming
	server *Server
	// hand takes the reply instead of the socket, for a trial within the process.
	hand func([]byte)
}

// take does everything that needs no lookup.
func (r *Server) take(in *incoming) {
	if in.keys.Current == nil {
		r.discard(in, sources.NoSecret, "RADIUS")
		return
	}
	a := arrival{incoming: *in, server: r}
	if fault, detail := a.prove(r.sources.Signs(a.From)); fault != "" {
		r.discard(in, fault, detail)
		return
	}
	if a.Packet.Code == radius.StatusServer { // RFC 5997 section 3: never remembered, answered at once
		r.sources.Good(a.From, a.Client.ID, a.Signed && !a.Stream(), a.Begun)
		r.reply(&a, gate.Answer{Verdict: results.Admitted})
		return
	}
	if !r.admit(&a.incoming) {
		return
	}
	r.sources.Good(a.From, a.Client.ID, a.Signed && !a.Stream(), a.Begun)
	a.Packet, _ = radius.Decode(append([]byte(nil), a.Packet.Raw()...)) // the buffer is about to be read into again
	r.visits.Go(&a)
}

// prove finds the key that the request was made with and checks what the client's mode asks for. The fault is "" if
// the request may go on.
func (a *arrival) prove(signsUsually bool) (sources.Fault, string) {
	keys := a.keys
	previous := keys.Previous
	if previous != nil && !a.Begun.Before(keys.Until) {
		previous = nil
	}
	p := &a.Packet
	a.Key = keys.Current
	if a.Key.Clear() { // the connection proves all of it
		a.Signed = true
		return "", ""
	}
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
	case a.Stream(): // TLS proves it
		a.Signed = true
		return "", ""
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
	a.Later = a
	out := a.Answer(r.ctx, r.gate)
	switch {
	case out.Held:
		r.duplicates.hold(a.id, a.entry)
		return
	case out.Discard:
		return
	}
	if out.Reason == reason.PasswordUnreadable {
		r.sources.Discard(a.From, a.Client.ID, sources.SuspectSecret, "", time.Now())
	}
	r.reply(a, out)
}

// Answered takes the answer of a request that waited for an approval.
func (a *arrival) Answered(out gate.Answer) {
	if out.Discard {
		a.server.duplicates.forget(a.id, a.entry)
		return
	}
	a.server.reply(a, out)
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
		r.duplicates.answered(a.id, a.entry, data)
		a.line.send(data, a.from, a.back)
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
