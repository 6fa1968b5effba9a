// Package server is the server's side of EAP: one conversation is the rounds of requests and responses in which
// one peer proves one attempt (RFC 3748). Methods are small state machines; layers agree on a method, outside and
// inside a tunnel alike. What a conversation needs to know of people it asks through the Asker, so that this package
// knows no directory, no policy and no socket.
package server

import (
	"context"
	"crypto/tls"
	"fmt"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/core/reason"
	"tollgate.example/key/internal/identity/proof"
	"tollgate.example/key/internal/wire/eap"
	"tollgate.example/key/internal/wire/mschap"
)

// Asker is the attempt that the conversation is for. What it says of a credential is a claim; only a method that comes
// to its end here makes a proof of it.
type Asker interface {
	// Method tells which method has been agreed.
	Method(name string)
	// Password, CHAP and MSCHAP look the name up and check its credential. The claim is nil unless the reason is OK.
	Password(ctx context.Context, who proof.Subject, name, clear string) (*proof.Claim, reason.Code)
	CHAP(ctx context.Context, who proof.Subject, name string, r CHAP) (*proof.Claim, reason.Code)
	// Asked is Password for a method that can ask once more: question is what the peer is asked then, whether the
	// password was right or not, "" for nothing.
	Asked(ctx context.Context, who proof.Subject, name, clear string) (claim *proof.Claim, question string)
	// Second takes what was answered to that by whoever gave the right password.
	Second(ctx context.Context, password, typed string)
	// MSCHAP returns the hash of the NT hash too, from which keys and our own proof are made.
	MSCHAP(ctx context.Context, who proof.Subject, name string, r MSCHAP) (*proof.Claim, mschap.Hash, reason.Code)
	// ChangePassword changes an expired password where it is kept, with what MS-CHAPv2 sends for that.
	ChangePassword(ctx context.Context, who proof.Subject, name string, change mschap.Change) reason.Code
	// Certificate verifies the chain of the peer and looks up whom it names. It is asked before the peer has shown that
	// it holds the private key: a certificate is public.
	Certificate(ctx context.Context, who proof.Subject, state *tls.ConnectionState) (*proof.Claim, reason.Code)
	// Resume looks up again whom an earlier conversation proved, and verifies their certificates again. No claims mean
	// that everything has to be proven anew.
	Resume(ctx context.Context, before []proof.Before) []*proof.Claim
	// Settle decides by policy once everything is proven, before success or failure is sent under protection.
	Settle(proofs ...proof.Proof) bool
	// Fail keeps why the conversation cannot go on.
	Fail(code reason.Code, detail string)
	// Record is where the conversation notes what was said.
	Record() *facts.EAP
}

// CHAP is a response of CHAP or EAP-MD5 with its challenge.
type CHAP struct {
	Identifier          byte
	Challenge, Response []byte
}

// MSCHAP is an NT response of either version with the challenge it was made for.
type MSCHAP struct {
	Challenge [8]byte
	NT        [24]byte
}

// Settings are what the lane says about EAP. They are shared by conversations and never changed.
type Settings struct {
	// Methods are names of config.Methods that run in EAP, in order of preference.
	Methods []string
	// TLS is cloned for each conversation; nil if there is no server certificate.
	TLS *tls.Config
	// ServerName is the server certificate in words.
	ServerName string
	// WithoutEMS allows peers that lack the extended master secret.
	WithoutEMS bool
	// Binding is off, optional or require: the crypto-binding of PEAP.
	Binding string
	// Resume is how long a proven conversation may be resumed, 0 for never.
	Resume time.Duration
	// Scope separates the sessions of settings that must not resume each other's.
	Scope string
	// Machine is what TEAP proves: user, machine, or both.
	Machine string
	// Authority names us to TEAP peers.
	Authority string
}

// Crypto-binding of PEAP, and whom TEAP proves.
const (
	BindingOff      = "off"
	BindingOptional = "optional"
	BindingRequire  = "require"
	ProveUser       = "user"
	ProveMachine    = "machine"
	ProveBoth       = "both"
)

// Conversation is one EAP conversation. Take may be called by one goroutine at a time; mu sees to it.
type Conversation struct {
	mu       sync.Mutex
	settings *Settings
	sessions *Sessions
	asker    Asker
	outer    *layer
	// size is how many octets of TLS data fit into one fragment.
	size    int
	begun   time.Time
	rounds  int
	last    string
	tunnels []interface{ Close() }
	// pending are octets of messages that are not whole yet.
	pending int
	// made are the sessions that tickets were written for.
	made     []*session
	over     bool
	parting  bool            // the peer has been told that it failed, and need only acknowledge it
	thinking bool            // a person has been asked for something
	ctx      context.Context // of the round under way, for what crypto/tls calls back
	identity string
}

// Answer is what follows from one response.
type Answer struct {
	// Packet is the EAP packet to send, nil with Discard.
	Packet []byte
	// Discard tells that the packet is to be ignored as if it had not come (RFC 3748 section 4.1).
	Discard bool
	// End tells that the conversation is over.
	End bool
	// Proofs are who was proven, none if the conversation failed.
	Proofs []proof.Proof
	// MSK is the master session key, if the method makes one.
	MSK []byte
}

// Sizes of fragments: without Framed-MTU (RFC 3579 section 2.3 suggests it), and the bounds.
const (
	defaultFragment = 1020
	minFragment     = 64
	maxFragment     = 3000
	maxRounds       = 300
)

// FragmentSize is how many octets of TLS data go into one packet for a Framed-MTU; 0 if the client sent none. Framing
// takes ten octets of it: header, type, flags and length.
func FragmentSize(mtu int) int {
	if mtu == 0 {
		return defaultFragment
	}
	return min(max(mtu-10, minFragment), maxFragment)
}

// New begins a conversation.
func New(settings *Settings, sessions *Sessions, asker Asker, fragment int) *Conversation {
	c := &Conversation{settings: settings, sessions: sessions, asker: asker, size: fragment, begun: time.Now()}
	c.outer = &layer{c: c, offers: c.offers(outside)}
	return c
}

// Identity is the name that the peer gave outside of any tunnel.
func (c *Conversation) Identity() string { return c.identity }

// Failure is the EAP-Failure that ends the conversation of a message (RFC 3748 section 4.2); nil if the message is no
// EAP.
func Failure(message []byte) []byte {
	p, err := eap.Decode(message)
	if err != nil {
		return nil
	}
	return eap.Packet{Code: eap.Failure, Identifier: p.Identifier}.Encode()
}

// Over reports whether the conversation has ended.
func (c *Conversation) Over() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.over
}

// Parting reports whether the peer has been told that it failed, and need only acknowledge it.
func (c *Conversation) Parting() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.parting
}

// Thinking reports whether a person has been asked for something, which takes its time.
func (c *Conversation) Thinking() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.thinking
}

// Close gives the conversation up. It is safe to call more than once, and tells whether it was this call that ended it:
// only then is there something left to record. A round under way comes first, whose answer the peer may still get.
func (c *Conversation) Close() (ended bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	ended = !c.over
	c.close()
	return ended
}

// What a conversation holds in memory, roughly: by itself, and for each TLS connection under way.
const (
	ownWeight    = 4 << 10
	tunnelWeight = 56 << 10
)

// Weight is about how many octets of memory the conversation holds.
func (c *Conversation) Weight() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return ownWeight + len(c.tunnels)*tunnelWeight + c.pending
}

func (c *Conversation) close() {
	c.over = true
	for _, t := range c.tunnels {
		t.Close()
	}
	c.tunnels, c.pending = nil, 0
}

// Take works on one packet from the peer. An empty one asks us to begin (RFC 3579 section 2.1).
func (c *Conversation) Take(ctx context.Context, data []byte) Answer {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.over {
		return Answer{Discard: true}
	}
	c.ctx = ctx
	defer func() { c.ctx = nil }()
	if len(data) == 0 && c.rounds == 0 {
		c.rounds++
		return Answer{Packet: c.outer.ask().Encode()}
	}
	p, err := eap.Decode(data)
	switch {
	case err != nil:
		return c.broken(eap.Packet{}, err.Error())
	case p.Code != eap.Response, p.Type == eap.Notification:
		return Answer{Discard: true}
	case !c.outer.expects(p):
		return Answer{Discard: true}
	}
	if c.rounds++; c.rounds > maxRounds {
		c.asker.Fail(reason.EAPTooLong, fmt.Sprintf("more than %d rounds", maxRounds))
		return c.end(p.Identifier, step{end: true})
	}
	c.asker.Record().Rounds, c.thinking = c.rounds, false
	reply, s := c.outer.take(ctx, p)
	switch {
	case s.silent:
		return Answer{Discard: true}
	case s.end:
		return c.end(p.Identifier, s)
	}
	return Answer{Packet: reply.Encode()}
}

func (c *Conversation) broken(p eap.Packet, detail string) Answer {
	c.asker.Fail(reason.EAPMalformed, detail)
	return c.end(p.Identifier, step{end: true})
}

// end closes and answers Success or Failure, which carries the identifier of the response (RFC 3748 section 4.2).
func (c *Conversation) end(identifier byte, s step) Answer {
	code := eap.Failure
	if s.ok() {
		code = eap.Success
	}
	c.close()
	return Answer{Packet: eap.Packet{Code: code, Identifier: identifier}.Encode(), End: true, Proofs: s.proofs,
		MSK: s.msk}
}

// Abandoned says where the conversation stood, for one that the peer left.
func (c *Conversation) Abandoned() string {
	if c.last == "" {
		return "at once"
	}
	return "after: " + c.last
}

func (c *Conversation) peer(format string, args ...any) {
	c.asker.Record().Add(time.Since(c.begun), "peer", text(format, args))
}

func (c *Conversation) server(format string, args ...any) {
	c.last = text(format, args)
	c.asker.Record().Add(time.Since(c.begun), "server", c.last)
}

// text writes a step, bounded, since names in it come from the peer.
func text(format string, args []any) string {
	s := strings.ToValidUTF8(fmt.Sprintf(format, args...), "?")
	if len(s) > 200 {
		s = strings.ToValidUTF8(s[:200], "") + "…"
	}
	return s
}

// OK reports whether the conversation succeeded, which takes a proof.
func (a *Answer) OK() bool { return len(a.Proofs) > 0 }

// step is what a method makes of a response: data for the next request, or an end.
type step struct {
	data   []byte
	silent bool
	end    bool
	// proofs are who was proven; an end without any is a failure.
	proofs []proof.Proof
	msk    []byte
}

func (s *step) ok() bool { return s.end && len(s.proofs) > 0 }

var failed = step{end: true}

// succeeded ends with proofs. A proof that is not finished fails, whatever else was proven.
func (c *Conversation) succeeded(msk []byte, proofs ...proof.Proof) step {
	for _, p := range proofs {
		if !p.Finished() {
			return c.fail(reason.ProofUnfinished, "")
		}
	}
	return step{end: true, proofs: proofs, msk: msk}
}

// fail ends with a reason.
func (c *Conversation) fail(code reason.Code, format string, args ...any) step {
	c.asker.Fail(code, text(format, args))
	return failed
}
