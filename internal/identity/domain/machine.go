package domain

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// passwordLife is how long a password of a machine account is used before it is replaced.
const passwordLife = 30 * 24 * time.Hour

// Machines keeps the passwords of our machine accounts, in memory over the store. They are records and no part of the
// configuration: they change by themselves, and returning to an earlier revision must not bring an old password back.
// It is safe for concurrent use.
type Machines struct {
	store    *store.Store
	box      *seal.Box
	rotating sync.Mutex

	mu  sync.Mutex
	all map[string]account
}

type account struct {
	passwords []string // the present one, then the one before
	changed   time.Time
}

// OpenMachines reads the machine accounts from the store.
func OpenMachines(ctx context.Context, s *store.Store, box *seal.Box) (*Machines, error) {
	rows, err := s.MachineAccounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the machine accounts: %w", err)
	}
	m := &Machines{store: s, box: box, all: map[string]account{}}
	for _, row := range rows {
		a := account{changed: time.UnixMilli(row.ChangedAt)}
		for _, sealed := range []string{row.Password, row.Previous} {
			if sealed == "" {
				continue
			}
			password, err := box.Open(place(row.Domain, row.Computer), config.Secret(sealed))
			if err != nil {
				return nil, fmt.Errorf("opening the password of machine account %s: %w", row.Computer, err)
			}
			a.passwords = append(a.passwords, password)
		}
		m.all[key(row.Domain, row.Computer)] = a
	}
	return m, nil
}

// place is that of the passwords of a machine account.
func place(domain, computer string) config.Place {
	return config.Place{Purpose: MachinePurpose, Object: key(domain, computer)}
}

// MachinePurpose is what passwords of machine accounts are sealed for; their object is DOMAIN\COMPUTER.
const MachinePurpose = "machine"

func key(domain, computer string) string {
	return strings.ToUpper(domain) + `\` + strings.ToUpper(computer)
}

// Passwords returns those to try, the present one first.
func (m *Machines) Passwords(domain, computer string) []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.all[key(domain, computer)].passwords
}

// Changed tells when the password was set, the zero time if there is none.
func (m *Machines) Changed(domain, computer string) time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.all[key(domain, computer)].changed
}

// Set keeps a password, and the one before it if it may still be needed.
func (m *Machines) Set(ctx context.Context, domain, computer, password, previous string) error {
	row := store.MachineAccount{Domain: strings.ToUpper(domain), Computer: strings.ToUpper(computer), Password: string(m.box.Seal(place(domain, computer), password)), ChangedAt: time.Now().UnixMilli()}
	a := account{passwords: []string{password}, changed: time.UnixMilli(row.ChangedAt)}
	if previous != "" {
		row.Previous, a.passwords = string(m.box.Seal(place(domain, computer), previous)), append(a.passwords, previous)
	}
	if err := m.store.SaveMachineAccount(ctx, row); err != nil {
		return fmt.Errorf("keeping the password of machine account %s: %w", computer, err)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.all[key(domain, computer)] = a
	return nil
}
