// Package membership keeps the passwords of our machine accounts. They are records and no part of the configuration:
// they change by themselves, and taking back a revision must not bring an old one back.
package membership

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

// Life is how long a password of a machine account is used before it is replaced.
const Life = 30 * 24 * time.Hour

// Keeper keeps them in memory over the store. It is safe for concurrent use.
type Keeper struct {
	store *store.Store
	box   *seal.Box

	mu  sync.Mutex
	all map[string]account
}

type account struct {
	passwords []string // the present one, then the one before
	changed   time.Time
}

// Open reads them.
func Open(ctx context.Context, s *store.Store, box *seal.Box) (*Keeper, error) {
	rows, err := s.MachineAccounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the machine accounts: %w", err)
	}
	k := &Keeper{store: s, box: box, all: map[string]account{}}
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
		k.all[key(row.Domain, row.Computer)] = a
	}
	return k, nil
}

// place is that of the passwords of a machine account.
func place(domain, computer string) config.Place {
	return config.Place{Purpose: Purpose, Object: key(domain, computer)}
}

// Purpose is what passwords of machine accounts are sealed for; their object is DOMAIN\COMPUTER.
const Purpose = "machine"

func key(domain, computer string) string {
	return strings.ToUpper(domain) + `\` + strings.ToUpper(computer)
}

// Passwords returns those to try, the present one first.
func (k *Keeper) Passwords(domain, computer string) []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.all[key(domain, computer)].passwords
}

// Changed tells when the password was set, the zero time if there is none.
func (k *Keeper) Changed(domain, computer string) time.Time {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.all[key(domain, computer)].changed
}

// Set keeps a password, and the one before it if it may still be needed.
func (k *Keeper) Set(ctx context.Context, domain, computer, password, previous string) error {
	row := store.MachineAccount{Domain: strings.ToUpper(domain), Computer: strings.ToUpper(computer), Password: string(k.box.Seal(place(domain, computer), password)), ChangedAt: time.Now().UnixMilli()}
	a := account{passwords: []string{password}, changed: time.UnixMilli(row.ChangedAt)}
	if previous != "" {
		row.Previous, a.passwords = string(k.box.Seal(place(domain, computer), previous)), append(a.passwords, previous)
	}
	if err := k.store.SaveMachineAccount(ctx, row); err != nil {
		return fmt.Errorf("keeping the password of machine account %s: %w", computer, err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.all[key(domain, computer)] = a
	return nil
}
