package certificate

import (
	"context"
	"crypto/x509"
	"fmt"
	"math/big"
	"sync"
	"time"

	"tollgate.example/key/internal/store"
)

// Issued keeps what our own authorities issued and revoked, in memory over the store. Records: a revocation takes
// effect at once.
type Issued struct {
	store IssuedStore

	mu   sync.RWMutex
	all  []*store.Issued // the newest last
	keys map[issuedKey]*store.Issued
}

// IssuedStore is where the records are kept.
type IssuedStore interface {
	IssuedAll(ctx context.Context) ([]store.Issued, error)
	IssuedByID(ctx context.Context, id string) (store.Issued, error)
	SaveIssued(ctx context.Context, i store.Issued) error
	Revoke(ctx context.Context, id string, at int64) error
}

type issuedKey struct{ authority, serial string }

// OpenIssued reads the records.
func OpenIssued(ctx context.Context, s IssuedStore) (*Issued, error) {
	rows, err := s.IssuedAll(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the issued certificates: %w", err)
	}
	i := &Issued{store: s, keys: make(map[issuedKey]*store.Issued, len(rows))}
	for n := len(rows) - 1; n >= 0; n-- {
		i.put(&rows[n])
	}
	return i, nil
}

func (i *Issued) put(row *store.Issued) {
	i.all = append(i.all, row)
	i.keys[issuedKey{row.Authority, row.Serial}] = row
}

// Reload reads a record anew, which was made or changed by somebody else: a certificate issued or revoked.
func (i *Issued) Reload(ctx context.Context, id string) error {
	row, err := i.store.IssuedByID(ctx, id)
	if err != nil {
		return fmt.Errorf("reading issued certificate %s anew: %w", id, err)
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	for n, old := range i.all {
		if old.ID == id {
			i.all[n] = &row
			i.keys[issuedKey{row.Authority, row.Serial}] = &row
			return nil
		}
	}
	i.put(&row)
	return nil
}

// Add records a certificate that was just signed.
func (i *Issued) Add(ctx context.Context, row store.Issued) error {
	if err := i.store.SaveIssued(ctx, row); err != nil {
		return fmt.Errorf("recording the certificate of %s: %w", row.Subject, err)
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.put(&row)
	return nil
}

// List returns the certificates of an authority, or of all with "", the newest first.
func (i *Issued) List(authority string) []store.Issued {
	i.mu.RLock()
	defer i.mu.RUnlock()
	out := []store.Issued{}
	for n := len(i.all) - 1; n >= 0; n-- {
		if authority == "" || i.all[n].Authority == authority {
			out = append(out, *i.all[n])
		}
	}
	return out
}

// Get returns one record by its identifier or serial number.
func (i *Issued) Get(ref string) (store.Issued, bool) {
	i.mu.RLock()
	defer i.mu.RUnlock()
	for _, row := range i.all {
		if row.ID == ref || row.Serial == ref {
			return *row, true
		}
	}
	return store.Issued{}, false
}

// Revoke revokes a certificate for good.
func (i *Issued) Revoke(ctx context.Context, id string, at time.Time) error {
	if err := i.store.Revoke(ctx, id, at.UnixMilli()); err != nil {
		return fmt.Errorf("revoking a certificate: %w", err)
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	for n, row := range i.all {
		if row.ID == id {
			changed := *row // readers may hold the old one
			changed.RevokedAt = at.UnixMilli()
			i.all[n] = &changed
			i.keys[issuedKey{row.Authority, row.Serial}] = &changed
		}
	}
	return nil
}

// Revoked tells whether a certificate of one of our authorities was revoked; known is false if it is not ours.
func (i *Issued) Revoked(authority, serial string) (revoked, known bool, at time.Time) {
	i.mu.RLock()
	defer i.mu.RUnlock()
	row := i.keys[issuedKey{authority, serial}]
	if row == nil {
		return false, false, time.Time{}
	}
	return row.RevokedAt != 0, true, time.UnixMilli(row.RevokedAt)
}

// RevocationEntries lists what an authority revoked, for its CRL.
func (i *Issued) RevocationEntries(authority string) []x509.RevocationListEntry {
	i.mu.RLock()
	defer i.mu.RUnlock()
	out := []x509.RevocationListEntry{}
	for _, row := range i.all {
		if row.Authority == authority && row.RevokedAt != 0 {
			if n, ok := new(big.Int).SetString(row.Serial, 16); ok {
				out = append(out, x509.RevocationListEntry{SerialNumber: n,
					RevocationTime: time.UnixMilli(row.RevokedAt)})
			}
		}
	}
	return out
}
