package gate

import (
	"context"
	"time"

	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/upstream"
)

// Access is one authentic access request, as the front that received it hands it over.
type Access struct {
	Snapshot *snapshot.Snapshot
	Facts    facts.Facts
	// EAP is the message of a request with EAP, nil for others; those show a Credential.
	EAP        *EAP
	Credential Credential
	// Forwarder passes the request on where the lane forwards.
	Forwarder Forwarder
	// Later takes the answer of a request that waits for somebody; without it, Access waits.
	Later Later
	// Begun is when the request arrived.
	Begun time.Time
}

// Credential is what a request without EAP shows as proof; the method in the facts says which field counts.
type Credential struct {
	Password []byte
	// State is what an answer to an Access-Challenge brings back, nil for none.
	State  []byte
	CHAP   server.CHAP
	MSCHAP server.MSCHAP
	// Unreadable tells that there is nothing that could be checked; Detail says why, if that is known.
	Unreadable bool
	Detail     string
}

// EAP is one message of a conversation, and what says which conversation it belongs to.
type EAP struct {
	Message, State []byte
	// Station is the Calling-Station-Id as it was sent.
	Station string
	// MTU is how much fits into one message, 0 if the request does not say.
	MTU int
}

// Forwarder passes a request on to a remote server, in the protocol that it came by.
type Forwarder interface {
	Forward(ctx context.Context, to *upstream.Server) (*upstream.Answer, error)
}

// Access takes one request along the whole road.
func (g *Gate) Access(ctx context.Context, a *Access) (out Answer) {
	out.Discard = true // what is left after a fault of ours
	f := &a.Facts
	defer g.Panics.Catch(func() string { return "an attempt of " + f.Sent + " through " + f.Client }, func() {
		g.faulted(a.Snapshot, f, a.Begun)
	})
	return g.access(ctx, a)
}

func (g *Gate) access(ctx context.Context, a *Access) Answer {
	if a.EAP != nil {
		if v := g.forwards(a); v != nil {
			return v.forward(ctx, a)
		}
		return g.beginEAP(ctx, a)
	}
	v, why := g.Arrive(a.Snapshot, a.Facts, a.Begun)
	switch {
	case why != reason.OK:
		return v.Leave()
	case len(v.before.Lane.Forward) > 0:
		return v.forward(ctx, a)
	}
	return v.check(ctx, &a.Credential, a.Later)
}

// check looks the person up, checks the credential and leaves.
func (v *Visit) check(ctx context.Context, c *Credential, later Later) Answer {
	method := v.Facts.Method
	switch {
	case c.Unreadable:
		v.Facts.Credential, v.Facts.CredentialDetail = reason.PasswordUnreadable, c.Detail
		if c.Detail != "" { // the password did come through; the response to it is not one
			v.Facts.Credential = reason.PasswordMalformed
		}
		return v.Leave()
	case method == facts.MACBypass:
		if v.Find(ctx) == reason.OK {
			v.judged(reason.OK, "") // the client vouches for the address
		}
		return v.Leave(v.finish())
	case method == "chap":
		if v.Find(ctx) == reason.OK {
			v.CheckCHAP(ctx, c.CHAP)
		}
		return v.done(later)
	case method == "mschap", method == "mschapv2":
		return v.checkMSCHAP(ctx, c.MSCHAP, later)
	}
	return v.checkPAP(ctx, c, later)
}

// checkMSCHAP checks a response of MS-CHAP; the answer holds the hash that the reply proves itself with.
func (v *Visit) checkMSCHAP(ctx context.Context, r server.MSCHAP, later Later) Answer {
	again := noHash
	if v.Find(ctx) == reason.OK {
		again, _ = v.CheckMSCHAP(ctx, r)
	}
	leave := func() Answer {
		out := v.conclude()
		out.MSCHAP = &again
		return out
	}
	if v.needsApproval() {
		return v.depart(later, leave)
	}
	return leave()
}

// done leaves, after the approval on the phone for whoever needs one.
func (v *Visit) done(later Later) Answer {
	if v.needsApproval() {
		return v.depart(later, v.conclude)
	}
	return v.conclude()
}

// conclude decides and leaves.
func (v *Visit) conclude() Answer { return v.Leave(v.finish()) }

// faulted records an attempt that hit a fault of ours.
func (g *Gate) faulted(s *snapshot.Snapshot, f *facts.Facts, begun time.Time) {
	defer g.Panics.Catch(func() string { return "recording an attempt that hit a fault" }, nil)
	v := &Visit{gate: g, snapshot: s, Facts: *f, begun: begun}
	v.judged(reason.ServiceFault, "")
	v.record(&decide.Decision{Verdict: results.Refused, Reason: reason.ServiceFault, Name: f.Sent, Row: -1},
		time.Since(begun))
}
