package domain

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/store"
)

// passwordLife is how long a password of a machine account is used before it is replaced.
const passwordLife = 30 * 24 * time.Hour

// MachineAccounts keeps the passwords of our machine accounts, in memory over the store. They are records and no part
// of the configuration: they change by themselves, and returning to an earlier revision must not bring an old password
// back. It is safe for concurrent use.
type MachineAccounts struct {
	store    MachineStore
	box      *seal.Box
	rotating sync.Mutex

	// node is the number of this node where there are several, and one above: each has an account of its own, since a
	// domain controller keeps one secure channel for each.
	node atomic.Int32

	mu  sync.Mutex
	all map[string]account
}

// SetNode says which of several nodes this is.
func (m *MachineAccounts) SetNode(number int) { m.node.Store(int32(number) + 1) }

// maxComputer is how long the name of a computer may be, in characters.
const maxComputer = 15

// Name is the name of the account of this node, where the configuration names the computer: itself on the node that
// joined first, and with the number of the node on others.
func (m *MachineAccounts) Name(domain, computer string) string {
	n := m.node.Load()
	if n == 0 || computer == "" || len(m.Passwords(domain, computer)) > 0 {
		return computer
	}
	end := fmt.Sprintf("-%d", n-1)
	return computer[:min(len(computer), maxComputer-len(end))] + end
}

// MachineStore is where the passwords are kept, sealed.
type MachineStore interface {
	MachineAccounts(ctx context.Context) ([]store.MachineAccount, error)
	MachineAccountOf(ctx context.Context, domain, computer string) (store.MachineAccount, error)
	SaveMachineAccount(ctx context.Context, a store.MachineAccount) error
}

type account struct {
	passwords []string // the present one, then the one before
	changed   time.Time
}

// OpenMachineAccounts reads the machine accounts from the store.
func OpenMachineAccounts(ctx context.Context, s MachineStore, box *seal.Box) (*MachineAccounts, error) {
	rows, err := s.MachineAccounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the machine accounts: %w", err)
	}
	m := &MachineAccounts{store: s, box: box, all: map[string]account{}}
	for _, row := range rows {
		a, err := m.fromRow(row)
		if err != nil {
			return nil, err
		}
		m.all[key(row.Domain, row.Computer)] = a
	}
	return m, nil
}

func (m *MachineAccounts) fromRow(row store.MachineAccount) (account, error) {
	a := account{changed: time.UnixMilli(row.ChangedAt)}
	for _, sealed := range []string{row.Password, row.Previous} {
		if sealed == "" {
			continue
		}
		password, err := m.box.Open(place(row.Domain, row.Computer), config.Secret(sealed))
		if err != nil {
			return account{}, fmt.Errorf("opening the password of machine account %s: %w", row.Computer, err)
		}
		a.passwords = append(a.passwords, password)
	}
	return a, nil
}

// Reload reads a machine account anew, whose password was changed by somebody else. Its identifier is DOMAIN\COMPUTER.
func (m *MachineAccounts) Reload(ctx context.Context, id string) error {
	domain, computer, _ := strings.Cut(id, `\`)
	row, err := m.store.MachineAccountOf(ctx, domain, computer)
	if err != nil {
		return fmt.Errorf("reading machine account %s anew: %w", id, err)
	}
	a, err := m.fromRow(row)
	if err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.all[key(domain, computer)] = a
	return nil
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
func (m *MachineAccounts) Passwords(domain, computer string) []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.all[key(domain, computer)].passwords
}

// Changed tells when the password was set, the zero time if there is none.
func (m *MachineAccounts) Changed(domain, computer string) time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.all[key(domain, computer)].changed
}

// Set keeps a password, and the one before it if it may still be needed.
func (m *MachineAccounts) Set(ctx context.Context, domain, computer, password, previous string) error {
	row := store.MachineAccount{Domain: strings.ToUpper(domain), Computer: strings.ToUpper(computer),
		Password: string(m.box.Seal(place(domain, computer), password)), ChangedAt: time.Now().UnixMilli()}
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
