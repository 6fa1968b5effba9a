package store

import "context"

// Lease is an address of a pool that is taken; times are in milliseconds since 1970.
type Lease struct {
	Address string `db:"address"`
	Pool    string `db:"pool"`
	Who     string `db:"who"`
	Client  string `db:"client"`
	Holder  string `db:"holder"`
	At      int64  `db:"at"`
	Until   int64  `db:"until"`
}

// Leases returns all leases.
func (s *Store) Leases(ctx context.Context) ([]Lease, error) {
	out := []Lease{}
	err := s.db.SelectContext(ctx, &out, selectLease)
	return out, err
}

// SaveLeases adds or replaces some and removes others, all or nothing.
func (s *Store) SaveLeases(ctx context.Context, save []Lease, remove []string) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, l := range save {
		if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO leases (address, pool, who, client, holder, "+
			"at, until) VALUES (:address, :pool, :who, :client, :holder, :at, :until)", l); err != nil {
			return err
		}
	}
	for _, address := range remove {
		if _, err := tx.ExecContext(ctx, "DELETE FROM leases WHERE address = ?", address); err != nil {
			return err
		}
	}
	return tx.Commit()
}

const selectLease = `SELECT address, pool, who, client, holder, at, until FROM leases`

// LeaseOf returns one lease by its address; ErrNotFound if there is none.
func (s *Store) LeaseOf(ctx context.Context, address string) (Lease, error) {
	var out Lease
	err := s.db.GetContext(ctx, &out, selectLease+" WHERE address = ?", address)
	return out, notFound(err)
}
