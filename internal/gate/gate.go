// Package gate is the one road in. Every protocol drives the same steps: Arrive (client, name, lane), Find (realm,
// lookup order, groups), CheckPassword, Leave (decide, make the pass, record the attempt). What it works with is one
// immutable snapshot behind an atomic pointer; publishing swaps it, and visits under way finish with the old one.
package gate

import (
	"crypto/tls"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/eap/server"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/identity/device"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/identity/domain"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/lockout"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/store"
	"tollgate.example/key/internal/upstream"
	"tollgate.example/key/internal/wire/radius"
)

// ClientKeys are the opened RADIUS secrets of one client; Current is nil if it has none.
type ClientKeys struct {
	Current *radius.Key
	// Previous is accepted until the date, nil if there is none.
	Previous *radius.Key
	Until    time.Time
}

// Snapshot is a published configuration made ready for use. It is immutable.
type Snapshot struct {
	Plan     *decide.Plan
	Revision int
	// Keys are by the place of the client in the configuration.
	Keys []ClientKeys
	// Gear are the keys for TACACS+, by the same place.
	Gear        []GearKeys
	gearNames   map[string]int // by name in a certificate, in lower case: place of the client
	servers     map[string]*tls.Certificate
	trusts      map[string]*certificate.Trust
	directories map[string]*openDirectory
	remotes     map[string]*upstream.Server
	pools       map[string]*session.Pool
	lanes       []laneReady
}

// openDirectory is a directory in use with what it was made of, so that the next snapshot can tell whether to keep it.
type openDirectory struct {
	*directory.Directory
	cfg config.Directory
	// member is our membership of its domain, nil for none.
	member *domain.Member
}

// close drops the connections of a directory that is no longer used.
func (o *openDirectory) close() {
	o.Close()
	if o.member != nil {
		o.member.Close()
	}
}

// Prepare opens the secrets and directories of a plan. Directories that did not change keep their connections.
func (g *Gate) Prepare(plan *decide.Plan, revision int, box *seal.Box, before *Snapshot) (*Snapshot, error) {
	s := &Snapshot{Plan: plan, Revision: revision, Keys: make([]ClientKeys, len(plan.Config.Clients)), Gear: make([]GearKeys, len(plan.Config.Clients)), gearNames: map[string]int{}, directories: map[string]*openDirectory{}}
	for i := range plan.Config.Clients {
		c := &plan.Config.Clients[i]
		if err := s.openGear(i, box); err != nil {
			return nil, err
		}
		if !c.Secret.Set() { // it speaks TACACS+ only
			continue
		}
		current, err := box.Open(c.RADIUSPlace(), c.Secret)
		if err != nil {
			return nil, fmt.Errorf("the secret of client %s: %w", c.Name, err)
		}
		s.Keys[i].Current = radius.NewKey([]byte(current))
		if c.Previous.Set() {
			previous, err := box.Open(c.RADIUSPlace(), c.Previous)
			if err != nil {
				return nil, fmt.Errorf("the previous secret of client %s: %w", c.Name, err)
			}
			s.Keys[i].Previous, s.Keys[i].Until = radius.NewKey([]byte(previous)), c.PreviousUntil
		}
	}
	for i := range plan.Config.Directories {
		d := &plan.Config.Directories[i]
		if before != nil {
			if old := before.directories[strings.ToLower(d.Name)]; old != nil && same(&old.cfg, d) {
				s.directories[strings.ToLower(d.Name)] = old
				continue
			}
		}
		password, err := box.Open(d.BindPlace(), d.BindPassword)
		if err != nil {
			return nil, fmt.Errorf("the bind password of directory %s: %w", d.Name, err)
		}
		open, err := directory.Open(*d, password)
		if err != nil {
			return nil, err
		}
		entry := &openDirectory{Directory: open, cfg: *d}
		if d.Member() {
			entry.member = domain.ForDirectory(d, func() []string { return g.Memberships.Passwords(d.Domain, d.Computer) }, open.Dialer())
		}
		s.directories[strings.ToLower(d.Name)] = entry
	}
	s.pools = make(map[string]*session.Pool, len(plan.Config.Pools))
	for i := range plan.Config.Pools {
		s.pools[strings.ToLower(plan.Config.Pools[i].Name)] = session.NewPool(&plan.Config.Pools[i])
	}
	if err := s.prepareRemotes(box); err != nil {
		return nil, err
	}
	if err := s.prepareLanes(box, g.Issued, g.checker); err != nil {
		return nil, err
	}
	return s, nil
}

func same(a, b *config.Directory) bool {
	x, y := *a, *b
	x.Note, y.Note = "", ""
	return fmt.Sprint(x) == fmt.Sprint(y)
}

// Directory returns a directory of the snapshot by name, nil if there is none.
func (s *Snapshot) Directory(name string) *directory.Directory {
	if open := s.directories[strings.ToLower(name)]; open != nil {
		return open.Directory
	}
	return nil
}

// Same returns the directory in use that is configured exactly so, nil if there is none.
func (s *Snapshot) Same(d *config.Directory) *directory.Directory {
	if open := s.directories[strings.ToLower(d.Name)]; open != nil && same(&open.cfg, d) {
		return open.Directory
	}
	return nil
}

// config is how a directory in use is configured.
func (s *Snapshot) config(name string) *config.Directory {
	return &s.directories[strings.ToLower(name)].cfg
}

// Member returns our membership of the domain of a directory in use, nil if there is none.
func (s *Snapshot) Member(name string) *domain.Member {
	if open := s.directories[strings.ToLower(name)]; open != nil {
		return open.member
	}
	return nil
}

// retire closes the directories that the next snapshot does not use. Visits under way get an error and try again
// with a new connection of their own.
func (s *Snapshot) retire(next *Snapshot) {
	for name, open := range s.directories {
		if next.directories[name] != open {
			open.close()
		}
	}
}

// Gate answers attempts.
type Gate struct {
	Parts
	Guard    *lockout.Guard
	current  atomic.Pointer[Snapshot]
	checker  *certificate.Checker
	sessions *server.Sessions
	open     *server.Table[*prover]
}

// Parts are the keepers that a gate asks, and the writer it records with.
type Parts struct {
	Accounts    *account.Keeper
	Devices     *device.Keeper
	Machines    *device.Machines
	Issued      *certificate.Issued
	Memberships *domain.Machines
	Leases      *session.Keeper
	Factors     *factor.Keeper
	Writer      *store.Writer
	Journal     *store.Journal
	Panics      *panics.Log
}

// New makes a gate that has no configuration yet: nobody is a client. Close ends the conversations under way.
func New(parts Parts) *Gate {
	g := &Gate{Parts: parts, Guard: lockout.New(), checker: certificate.NewChecker(), sessions: server.NewSessions(maxSessions)}
	g.open = server.NewTable(server.Limits{Open: maxConversations, Weight: maxWeight, Idle: conversationIdle}, g.abandoned)
	plan, _ := decide.Compile(&config.Config{})
	g.current.Store(&Snapshot{Plan: plan, directories: map[string]*openDirectory{}})
	return g
}

// Close gives up the conversations under way.
func (g *Gate) Close() { g.open.Close() }

// Conversations counts the EAP conversations under way, and the TLS sessions kept for resumption.
func (g *Gate) Conversations() (open, sessions int) { return g.open.Len(), g.sessions.Len() }

// Current is the snapshot in effect.
func (g *Gate) Current() *Snapshot { return g.current.Load() }

// Swap puts a snapshot into effect.
func (g *Gate) Swap(next *Snapshot) {
	if before := g.current.Swap(next); before != nil {
		before.retire(next)
	}
}
