package store

import (
	"context"
	"fmt"
)

// Contact is what a source address was last seen doing, as JSON.
type Contact struct {
	Address string `db:"address"`
	Contact []byte `db:"contact"`
}

// Contacts returns all that were kept.
func (s *Store) Contacts(ctx context.Context) ([]Contact, error) {
	out := []Contact{}
	err := s.db.SelectContext(ctx, &out, "SELECT address, contact FROM contacts")
	return out, err
}

// SaveContacts keeps some.
func (s *Store) SaveContacts(ctx context.Context, list []Contact) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, c := range list {
		if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO contacts (address, contact) VALUES (:address, "+
			":contact)", c); err != nil {
			return fmt.Errorf("storing the contact %s: %w", c.Address, err)
		}
	}
	return tx.Commit()
}
