package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Account is a person kept here.
type Account struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Display   string `db:"display"`
	Mail      string `db:"mail"`
	Groups    []byte `db:"groups"`
	Enabled   bool   `db:"enabled"`
	Expires   int64  `db:"expires"`
	Hash      string `db:"hash"`
	Keeps     string `db:"keeps"`
	Proof     string `db:"proof"`
	Version   int64  `db:"version"`
	ChangedAt int64  `db:"changed_at"`
	ChangedBy string `db:"changed_by"`
	Emergency string `db:"emergency"`
	Opened    int64  `db:"opened"`
	OpenedOn  string `db:"opened_on"`
	Uses      int    `db:"uses"`
}

// Accounts returns all accounts.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	rows, err := s.db.QueryContext(ctx, selectAccount)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Account{}
	for rows.Next() { // without the names of columns: there may be hundreds of thousands of rows
		var a Account
		if err := rows.Scan(&a.ID, &a.Name, &a.Display, &a.Mail, &a.Groups, &a.Enabled, &a.Expires, &a.Hash, &a.Keeps,
			&a.Proof, &a.Version, &a.ChangedAt, &a.ChangedBy, &a.Emergency, &a.Opened, &a.OpenedOn,
			&a.Uses); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, rows.Err()
}

// SaveAccount adds or replaces an account. A name that another account has gives ErrTaken.
func (s *Store) SaveAccount(ctx context.Context, a Account) error {
	return s.SaveAccounts(ctx, []Account{a})
}

// SaveAccounts adds or replaces accounts, all of them or none.
func (s *Store) SaveAccounts(ctx context.Context, list []Account) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		save, err := tx.PrepareNamedContext(ctx, saveAccount)
		if err != nil {
			return err
		}
		defer save.Close()
		for i := range list {
			if _, err := save.ExecContext(ctx, &list[i]); err != nil {
				return taken(err)
			}
		}
		return nil
	})
}

const saveAccount = `INSERT INTO accounts (id, name, display, mail, groups, enabled, expires, hash, keeps, proof, version, changed_at, changed_by, emergency, opened, opened_on, uses)
		VALUES (:id, :name, :display, :mail, :groups, :enabled, :expires, :hash, :keeps, :proof, :version, :changed_at, :changed_by, :emergency, :opened, :opened_on, :uses)
		ON CONFLICT (id) DO UPDATE SET name = excluded.name, display = excluded.display, mail = excluded.mail, groups = excluded.groups,
		enabled = excluded.enabled, expires = excluded.expires, hash = excluded.hash, keeps = excluded.keeps, proof = excluded.proof, version = excluded.version,
		changed_at = excluded.changed_at, changed_by = excluded.changed_by, emergency = excluded.emergency, opened = excluded.opened, opened_on = excluded.opened_on, uses = excluded.uses`

// OpenEmergency notes a use of an emergency account; the first breaks its seal.
func (s *Store) OpenEmergency(ctx context.Context, id, on string, at int64) error {
	return s.softly(ctx, func(tx *sqlx.Tx) error { // they are for when nothing else works
		return touched(tx.ExecContext(ctx, "UPDATE accounts SET uses = uses + 1, opened_on = iif(opened = 0, ?, "+
			"opened_on), opened = iif(opened = 0, ?, opened) WHERE id = ?", on, at, id))
	})
}

// RemoveAccount removes an account.
func (s *Store) RemoveAccount(ctx context.Context, id string) error {
	return s.exec(ctx, "DELETE FROM accounts WHERE id = ?", id)
}

const selectAccount = `SELECT id, name, display, mail, groups, enabled, expires, hash, keeps, proof, version, changed_at, changed_by, emergency, opened,
	opened_on, uses FROM accounts`

// AccountByID returns one account; ErrNotFound if there is none.
func (s *Store) AccountByID(ctx context.Context, id string) (Account, error) {
	var out Account
	err := s.db.GetContext(ctx, &out, selectAccount+" WHERE id = ?", id)
	return out, notFound(err)
}
