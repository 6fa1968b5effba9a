// Package snapshot is a published configuration made ready for use: compiled, with opened secrets, keys, trust lists
// and connections to directories. A snapshot is immutable; the hot path reads it and nothing else.
package snapshot

import (
	"crypto/tls"
	"fmt"
	"maps"
	"strings"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/core/decide"
	"tollgate.example/key/internal/identity/certificate"
	"tollgate.example/key/internal/identity/directory"
	"tollgate.example/key/internal/identity/domain"
	"tollgate.example/key/internal/session"
	"tollgate.example/key/internal/wire/radius"
)

// ClientKeys are the opened RADIUS secrets of one client; Current is nil if it has none.
type ClientKeys struct {
	Current *radius.Key
	// Previous is accepted until the date, nil if there is none.
	Previous *radius.Key
	Until    time.Time
}

// Keys are the opened secrets of one client.
type Keys struct {
	RADIUS ClientKeys
	Gear   GearKeys
	// Changes signs changes of authorization; nil if the client has no secret for RADIUS.
	Changes *radius.Key
}

// Snapshot is a published configuration made ready for use. It is immutable.
type Snapshot struct {
	Plan        *decide.Plan
	Revision    int
	keys        map[*config.Client]*Keys
	tlsNames    map[string]*config.Client // by name in a certificate, in lower case
	servers     map[string]*tls.Certificate
	trusts      map[string]*certificate.Trust
	directories map[string]*Directory
	remotes     map[string]*Remote
	pools       map[string]*session.Pool
	lanes       []Lane
}

// Directory is a directory in use with what it was made of, so that the next snapshot can tell whether to keep it.
type Directory struct {
	*directory.Directory
	// Config is how it is configured.
	Config config.Directory
	// Member is our membership of its domain, nil for none.
	Member *domain.Member
}

// close drops the connections of a directory that is no longer used.
func (d *Directory) close() {
	d.Close()
	if d.Member != nil {
		d.Member.Close()
	}
}

// Maker makes snapshots of plans.
type Maker struct {
	Box      *seal.Box
	Machines *domain.MachineAccounts
	Issued   *certificate.Issued
	Checker  *certificate.Checker
}

// Make opens the secrets, directories and certificates of a plan. Directories that did not change keep the connections
// that they have in the snapshot before, which may be nil.
func (m *Maker) Make(plan *decide.Plan, revision int, before *Snapshot) (*Snapshot, error) {
	s := &Snapshot{Plan: plan, Revision: revision}
	for _, open := range []func() error{
		func() error { return s.openClients(m.Box, before) },
		func() error { return s.openDirectories(m, before) },
		func() error { return s.openRemotes(m.Box, before) },
		func() error { return s.openLanes(m) },
	} {
		if err := open(); err != nil {
			return nil, err
		}
	}
	s.pools = make(map[string]*session.Pool, len(plan.Config.Pools))
	for i := range plan.Config.Pools {
		s.pools[strings.ToLower(plan.Config.Pools[i].Name)] = session.NewPool(plan.Config.Pools[i])
	}
	return s, nil
}

// Empty is a snapshot in which nobody is a client.
func Empty() *Snapshot {
	plan, _ := decide.Compile(&config.Config{})
	return &Snapshot{Plan: plan}
}

// Under is a snapshot with the directories of this one and another plan, to look people up for a dry run. It has no
// secrets and no lanes that could answer.
func (s *Snapshot) Under(plan *decide.Plan) *Snapshot {
	return &Snapshot{Plan: plan, Revision: s.Revision, directories: s.directories}
}

// Keys are the opened secrets of a client of the plan.
func (s *Snapshot) Keys(c *config.Client) *Keys {
	if keys := s.keys[c]; keys != nil {
		return keys
	}
	return &noKeys
}

var noKeys Keys

// openClients opens the shared secrets of the clients that are others than in the snapshot before, which may be nil.
func (s *Snapshot) openClients(box *seal.Box, before *Snapshot) error {
	var had []*config.Client
	if before != nil && before.keys != nil {
		had = before.Plan.Config.Clients
	}
	fresh, gone := config.Fresh(had, s.Plan.Config.Clients)
	switch {
	case had == nil:
		s.keys, s.tlsNames = make(map[*config.Client]*Keys, len(s.Plan.Config.Clients)), map[string]*config.Client{}
	case len(fresh)+len(gone) == 0:
		s.keys, s.tlsNames = before.keys, before.tlsNames
		return nil
	default:
		s.keys, s.tlsNames = maps.Clone(before.keys), maps.Clone(before.tlsNames)
	}
	for _, c := range gone {
		delete(s.keys, c)
		for _, name := range c.TLSNames {
			delete(s.tlsNames, strings.ToLower(name))
		}
	}
	for _, c := range fresh {
		keys, err := openKeys(c, box)
		if err != nil {
			return err
		}
		s.keys[c] = keys
		for _, name := range c.TLSNames {
			s.tlsNames[strings.ToLower(name)] = c
		}
	}
	return nil
}

func openKeys(c *config.Client, box *seal.Box) (*Keys, error) {
	gear, err := openGear(c, box)
	keys := &Keys{Gear: gear}
	if err != nil || !c.Secret.Set() { // it speaks TACACS+ only
		return keys, err
	}
	current, err := box.Open(c.RADIUSPlace(), c.Secret)
	if err != nil {
		return nil, fmt.Errorf("the secret of client %s: %w", c.Name, err)
	}
	keys.RADIUS.Current = radius.NewKey([]byte(current))
	if c.Previous.Set() {
		previous, err := box.Open(c.RADIUSPlace(), c.Previous)
		if err != nil {
			return nil, fmt.Errorf("the previous secret of client %s: %w", c.Name, err)
		}
		keys.RADIUS.Previous, keys.RADIUS.Until = radius.NewKey([]byte(previous)), c.PreviousUntil
	}
	keys.Changes = keys.RADIUS.Current
	if c.ChangeSecret.Set() {
		secret, err := box.Open(c.ChangePlace(), c.ChangeSecret)
		if err != nil {
			return nil, fmt.Errorf("the secret of client %s for changes: %w", c.Name, err)
		}
		keys.Changes = radius.NewKey([]byte(secret))
	}
	return keys, nil
}

// openDirectories opens the directories, and keeps those that did not change.
func (s *Snapshot) openDirectories(m *Maker, before *Snapshot) error {
	s.directories = make(map[string]*Directory, len(s.Plan.Config.Directories))
	for i := range s.Plan.Config.Directories {
		d := s.Plan.Config.Directories[i]
		if before != nil {
			if old := before.Directory(d.Name); old != nil && same(&old.Config, d) {
				s.directories[strings.ToLower(d.Name)] = old
				continue
			}
		}
		password, err := m.Box.Open(d.BindPlace(), d.BindPassword)
		if err != nil {
			return fmt.Errorf("the bind password of directory %s: %w", d.Name, err)
		}
		open, err := directory.Open(*d, password)
		if err != nil {
			return err
		}
		entry := &Directory{Directory: open, Config: *d}
		if d.Member() {
			own := *d
			own.Computer = m.Machines.Name(d.Domain, d.Computer)
			passwords := func() []string { return m.Machines.Passwords(own.Domain, own.Computer) }
			entry.Member = domain.ForDirectory(&own, passwords, open.Dialer())
		}
		s.directories[strings.ToLower(d.Name)] = entry
	}
	return nil
}

func same(a, b *config.Directory) bool {
	x, y := *a, *b
	x.Note, y.Note = "", ""
	return fmt.Sprint(x) == fmt.Sprint(y)
}

// Directory returns a directory of the snapshot by name, nil if there is none.
func (s *Snapshot) Directory(name string) *Directory { return s.directories[strings.ToLower(name)] }

// Same returns the directory in use that is configured exactly so, nil if there is none.
func (s *Snapshot) Same(d *config.Directory) *Directory {
	if open := s.Directory(d.Name); open != nil && same(&open.Config, d) {
		return open
	}
	return nil
}

// Member returns our membership of the domain of a directory in use, nil if there is none.
func (s *Snapshot) Member(name string) *domain.Member {
	if open := s.Directory(name); open != nil {
		return open.Member
	}
	return nil
}

// Pool returns an address pool by name, nil if there is none.
func (s *Snapshot) Pool(name string) *session.Pool { return s.pools[strings.ToLower(name)] }

// grace is how long a remote server that is no longer used may still answer what it was asked.
const grace = 10 * time.Second

// Begin has the remote servers of the snapshot probed, once it is in effect.
func (s *Snapshot) Begin() {
	for _, open := range s.remotes {
		open.Begin()
	}
}

// Retire closes the directories and remote servers that the next snapshot does not use. Visits under way get an error
// and try again with a new connection of their own.
func (s *Snapshot) Retire(next *Snapshot) {
	for name, open := range s.directories {
		if next.directories[name] != open {
			open.close()
		}
	}
	for name, open := range s.remotes {
		if next.remotes[name] != open {
			time.AfterFunc(grace, open.Close)
		}
	}
}
