package gate

import (
	"context"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/server"
)

const (
	// maxConversations bounds the conversations under way, maxWeight what they hold in memory together, in octets;
	// conversationIdle is how long a peer may think, conversationParting how long it may take to acknowledge a failure:
	// clients send again after three to five seconds.
	maxConversations    = 20_000
	maxWeight           = 512 << 20
	conversationIdle    = 30 * time.Second
	conversationParting = 6 * time.Second
	maxSessions         = 50_000
)

// open is a conversation under way, with the visit it belongs to.
type open = server.Open[*prover]

// beginEAP takes the first round of an EAP conversation (RFC 3579), which has no State; Continue takes the others. A
// round that ends the conversation gives the verdict, the others a challenge.
func (g *Gate) beginEAP(ctx context.Context, a *Access) Answer {
	if a.EAP.State != nil {
		return g.stray(a)
	}
	a.Facts.EAP = &facts.EAP{}
	v, why := g.Arrive(a.Snapshot, a.Facts, a.Begun)
	if why != reason.OK || v.Facts.Credential == reason.DeviceMismatch {
		return v.leaveEAP(a.EAP.Message)
	}
	visit := &prover{Visit: v, client: v.Facts.Client, station: a.EAP.Station}
	lane := a.Snapshot.Lane(v.before.Lane.Number)
	settings := &lane.Settings
	if v.Facts.Method == facts.MACBypass {
		settings = &lane.Bypass
	}
	c := server.New(settings, g.sessions, visit, server.FragmentSize(a.EAP.MTU))
	o := g.open.Add(c, visit, visit.client)
	return g.round(ctx, o, a.EAP.Message, a.Later)
}

// Continue takes a round of a conversation under way, without reading the facts of the request anew. ok is false if the
// request is none of those; it has to walk the whole road then, which says why.
func (g *Gate) Continue(ctx context.Context, e *EAP, client string, later Later) (answer Answer, ok bool) {
	if e == nil || e.State == nil {
		return Answer{}, false
	}
	o := g.open.Find(e.State)
	if o == nil || o.Keep.client != client || o.Keep.station != e.Station {
		return Answer{}, false
	}
	return g.round(ctx, o, e.Message, later), true
}

// stray refuses an answer that continues nothing: its conversation is over, was never begun here, or is that of another
// client or device.
func (g *Gate) stray(a *Access) Answer {
	code := reason.EAPLost
	if g.open.Find(a.EAP.State) != nil {
		code = reason.EAPMixed
	}
	a.Facts.EAP = &facts.EAP{}
	v, why := g.Arrive(a.Snapshot, a.Facts, a.Begun)
	if why == reason.OK {
		v.Facts.Credential = code
	}
	return v.leaveEAP(a.EAP.Message)
}

// round hands one packet to the conversation.
func (g *Gate) round(ctx context.Context, o *open, message []byte, later Later) (out Answer) {
	out.Discard = true // what is left after a fault of ours
	defer g.Panics.Catch(func() string { return "an EAP round of " + o.Keep.Facts.Sent + " through " + o.Keep.client },
		func() { g.stumbled(o) })
	answer := o.Take(ctx, message)
	switch {
	case answer.Discard:
		return Answer{Discard: true}
	case !answer.End:
		g.open.Weigh(o)
		out = Answer{Challenge: true, State: o.State[:], EAP: answer.Packet}
		if o.Thinking() {
			out.Wait = answerWithin
		}
		return out
	}
	g.open.Remove(o)
	if !answer.OK() || !o.Keep.needsApproval() {
		return o.Keep.end(&answer)
	}
	return o.Keep.depart(later, func() Answer { return o.Keep.end(&answer) })
}

// stumbled gives up a conversation that hit a fault of ours.
func (g *Gate) stumbled(o *open) {
	g.open.Remove(o)
	o.Close()
	g.faulted(o.Keep.snapshot, &o.Keep.Facts, o.Keep.begun)
}

// end leaves a conversation that is over. Nobody but those it has proofs of is admitted.
func (p *prover) end(answer *server.Answer) Answer {
	var out Answer
	if answer.OK() {
		out = p.Leave(answer.Proofs...)
	} else {
		out = p.Refuse(p.refused...)
	}
	out.EAP = answer.Packet
	switch {
	case out.Verdict != results.Admitted && answer.OK(): // such as by a pool that has run out of addresses meanwhile
		out.EAP = server.Failure(answer.Packet)
	case out.Verdict == results.Admitted:
		out.MSK = answer.MSK
		if m := p.computer(); m != "" {
			p.gate.Computers.Proven(p.Facts.MAC, m, p.Facts.At)
		}
	}
	return out
}

// computer is the name of the one that was proven, "" if none was.
func (v *Visit) computer() string {
	switch {
	case v.Facts.Machine != nil:
		return v.Facts.Machine.Name
	case v.Facts.Person != nil && v.Facts.Person.Kind == facts.Computer:
		return v.Facts.Person.Name
	}
	return ""
}

// leaveEAP ends before a conversation has begun: the refusal carries an EAP-Failure (RFC 3579 section 2.6.3).
func (v *Visit) leaveEAP(message []byte) Answer {
	out := v.Leave()
	out.EAP = server.Failure(message)
	return out
}

// abandoned records a conversation that the peer left.
func (g *Gate) abandoned(o *open) {
	defer g.Panics.Catch(func() string { return "recording an abandoned conversation of " + o.Keep.Facts.Sent }, nil)
	p := o.Keep
	if code := p.Facts.Credential; code == "" || code == reason.OK {
		p.Fail(reason.EAPAbandoned, o.Abandoned())
	}
	p.Refuse(p.refused...)
}
