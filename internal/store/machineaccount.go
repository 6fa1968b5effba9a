package store

import "context"

// MachineAccount is one of our machine accounts; the passwords are sealed.
type MachineAccount struct {
	Domain    string `db:"domain"`
	Computer  string `db:"computer"`
	Password  string `db:"password"`
	Previous  string `db:"previous"`
	ChangedAt int64  `db:"changed_at"`
}

// MachineAccounts returns all of them.
func (s *Store) MachineAccounts(ctx context.Context) ([]MachineAccount, error) {
	out := []MachineAccount{}
	err := s.db.SelectContext(ctx, &out, selectMachineAccount)
	return out, err
}

// SaveMachineAccount adds or replaces one.
func (s *Store) SaveMachineAccount(ctx context.Context, a MachineAccount) error {
	return s.execHere(
		ctx,
		`INSERT INTO machine_accounts (domain, computer, password, previous, changed_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (domain, computer) DO UPDATE SET password = excluded.password, previous = excluded.previous, changed_at = excluded.changed_at`,
		a.Domain,
		a.Computer,
		a.Password,
		a.Previous,
		a.ChangedAt,
	)
}

const selectMachineAccount = `SELECT domain, computer, password, previous, changed_at FROM machine_accounts`

// MachineAccountOf returns one machine account; ErrNotFound if there is none.
func (s *Store) MachineAccountOf(ctx context.Context, domain, computer string) (MachineAccount, error) {
	var out MachineAccount
	err := s.db.GetContext(ctx, &out, selectMachineAccount+" WHERE domain = ? AND computer = ?", domain, computer)
	return out, notFound(err)
}
