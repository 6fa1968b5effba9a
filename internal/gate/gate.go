// Package gate is the one road in. Every protocol drives the same steps: Arrive (client, name, lane), Find (realm,
// lookup order, groups), CheckPassword, Leave (decide, make the pass, record the attempt). What it works with is one
// immutable snapshot behind an atomic pointer; publishing swaps it, and visits under way finish with the old one.
package gate

import (
	"net/netip"
	"sync"
	"sync/atomic"

	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/core/facts"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/gate/snapshot"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/identity/device"
	"tollgate.example/key/internal/identity/domain"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/lockout"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
)

// Gate answers attempts.
type Gate struct {
	Parts
	Lockout  *lockout.Guard
	current  atomic.Pointer[snapshot.Snapshot]
	checker  *certificate.Checker
	sessions *server.Sessions
	open     *server.Table[*prover]
	asking   questions
	holding  holds
	// counting are held while the sessions of a person are counted, by the person's name.
	counting [64]sync.Mutex
}

// Parts are the keepers that a gate asks, and the writer it records with.
type Parts struct {
	Accounts        *account.Keeper
	Devices         *device.Keeper
	Computers       *device.Computers
	Issued          *certificate.Issued
	MachineAccounts *domain.MachineAccounts
	Leases          *session.Keeper
	Sessions        *session.Sessions
	Factors         *factor.Keeper
	Approvals       *approval.Desk
	Attempts        *store.Attempts
	Journal         *store.Journal
	Panics          *panics.Log
	// EndSessions has clients asked to end sessions, and says why; it does not wait.
	EndSessions func(list []*session.Session, why string)
	// Present tells where a person is by what presence knows, and who is at the address that the person comes from.
	Present func(name string, from netip.Addr) *facts.Present
	// Traits are what was seen of the device of an address, nil for nothing.
	Traits func(mac string) *facts.Traits
}

// New makes a gate that has no configuration yet: nobody is a client. Close ends the conversations under way.
func New(parts Parts) *Gate {
	g := &Gate{Parts: parts, Lockout: lockout.New(), checker: certificate.NewChecker(),
		sessions: server.NewSessions(maxSessions)}
	g.open = server.NewTable(server.Limits{Open: maxConversations, Weight: maxWeight, Idle: conversationIdle,
		Thinking: answerWithin,
		Parting:  conversationParting}, g.abandoned)
	g.current.Store(snapshot.Empty())
	return g
}

// Close gives up the conversations under way.
func (g *Gate) Close() {
	g.asking.close()
	g.holding.close()
	g.open.Close()
}

// Resumable are the TLS sessions that may be resumed.
func (g *Gate) Resumable() *server.Sessions { return g.sessions }

// Conversations counts the EAP conversations under way, and the TLS sessions kept for resumption.
func (g *Gate) Conversations() (open, sessions int) { return g.open.Len(), g.sessions.Len() }

// Prepare makes a snapshot of a plan, with the connections of the one that is in effect.
func (g *Gate) Prepare(plan *decide.Plan, revision int, box *seal.Box) (*snapshot.Snapshot, error) {
	maker := snapshot.Maker{Box: box, Machines: g.MachineAccounts, Issued: g.Issued, Checker: g.checker}
	return maker.Make(plan, revision, g.Current())
}

// Current is the snapshot in effect.
func (g *Gate) Current() *snapshot.Snapshot { return g.current.Load() }

// Swap puts a snapshot into effect.
func (g *Gate) Swap(next *snapshot.Snapshot) {
	if before := g.current.Swap(next); before != nil {
		before.Retire(next)
	}
	next.Begin()
}
