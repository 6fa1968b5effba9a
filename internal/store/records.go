package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Revision is one published configuration. Times are milliseconds since 1970 throughout this file.
type Revision struct {
	Number   int    `db:"number"`
	At       int64  `db:"at"`
	Operator string `db:"operator"`
	Note     string `db:"note"`
	Changes  []byte `db:"changes"`
	Config   []byte `db:"config"`
}

// Draft is the one draft.
type Draft struct {
	At       int64  `db:"at"`
	Operator string `db:"operator"`
	Config   []byte `db:"config"`
	Authors  []byte `db:"authors"`
}

// Publish stores a new revision and the draft that follows from it, both or neither.
func (s *Store) Publish(ctx context.Context, r Revision, d Draft) error {
	return s.durably(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO revisions (number, at, operator, note, changes, config)
			VALUES (:number, :at, :operator, :note, :changes, :config)`, r); err != nil {
			return fmt.Errorf("storing revision %d: %w", r.Number, err)
		}
		return saveDraft(ctx, tx, d)
	})
}

type namedExec interface {
	NamedExecContext(ctx context.Context, query string, arg any) (sql.Result, error)
}

func saveDraft(ctx context.Context, db namedExec, d Draft) error {
	if _, err := db.NamedExecContext(ctx, `INSERT OR REPLACE INTO draft (only, at, operator, config, authors)
		VALUES (1, :at, :operator, :config, :authors)`, d); err != nil {
		return fmt.Errorf("storing the draft: %w", err)
	}
	return nil
}

// SaveDraft replaces the draft.
func (s *Store) SaveDraft(ctx context.Context, d Draft) error {
	return s.durably(ctx, func(tx *sqlx.Tx) error { return saveDraft(ctx, tx, d) })
}

// Draft returns the draft, ErrNotFound if none was ever saved.
func (s *Store) Draft(ctx context.Context) (Draft, error) {
	var d Draft
	err := s.db.GetContext(ctx, &d, "SELECT at, operator, config, authors FROM draft")
	return d, notFound(err)
}

// Revision returns one revision; number 0 asks for the newest.
func (s *Store) Revision(ctx context.Context, number int) (Revision, error) {
	var r Revision
	query := "SELECT number, at, operator, note, changes, config FROM revisions "
	var err error
	if number == 0 {
		err = s.db.GetContext(ctx, &r, query+"ORDER BY number DESC LIMIT 1")
	} else {
		err = s.db.GetContext(ctx, &r, query+"WHERE number = ?", number)
	}
	return r, notFound(err)
}

// Revisions lists revisions from the newest, without their configuration; before is a cursor, 0 for the start.
func (s *Store) Revisions(ctx context.Context, before, limit int) ([]Revision, error) {
	out := []Revision{}
	err := s.db.SelectContext(ctx, &out, `SELECT number, at, operator, note, changes FROM revisions
		WHERE ? = 0 OR number < ? ORDER BY number DESC LIMIT ?`, before, before, limit)
	return out, err
}

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
	out := []Account{}
	err := s.db.SelectContext(ctx, &out, "SELECT id, name, display, mail, groups, enabled, expires, hash, keeps, proof, version, changed_at, changed_by, emergency, opened, opened_on, uses FROM accounts ORDER BY name")
	return out, err
}

// SaveAccount adds or replaces an account. A name that another account has gives ErrTaken.
func (s *Store) SaveAccount(ctx context.Context, a Account) error {
	_, err := s.durableExec(ctx, `INSERT INTO accounts (id, name, display, mail, groups, enabled, expires, hash, keeps, proof, version, changed_at, changed_by, emergency, opened, opened_on, uses)
		VALUES (:id, :name, :display, :mail, :groups, :enabled, :expires, :hash, :keeps, :proof, :version, :changed_at, :changed_by, :emergency, :opened, :opened_on, :uses)
		ON CONFLICT (id) DO UPDATE SET name = excluded.name, display = excluded.display, mail = excluded.mail, groups = excluded.groups,
		enabled = excluded.enabled, expires = excluded.expires, hash = excluded.hash, keeps = excluded.keeps, proof = excluded.proof, version = excluded.version,
		changed_at = excluded.changed_at, changed_by = excluded.changed_by, emergency = excluded.emergency, opened = excluded.opened, opened_on = excluded.opened_on, uses = excluded.uses`, a)
	return taken(err)
}

// OpenEmergency notes a use of an emergency account; the first breaks its seal.
func (s *Store) OpenEmergency(ctx context.Context, id, on string, at int64) error {
	return s.exec(ctx, "UPDATE accounts SET uses = uses + 1, opened_on = iif(opened = 0, ?, opened_on), opened = iif(opened = 0, ?, opened) WHERE id = ?", on, at, id)
}

// RemoveAccount removes an account.
func (s *Store) RemoveAccount(ctx context.Context, id string) error {
	return s.exec(ctx, "DELETE FROM accounts WHERE id = ?", id)
}

// exec runs a statement that must touch a record, and returns when that is on the disk.
func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	return s.durably(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, query, args...)
		return touched(result, err)
	})
}

// touched makes ErrNotFound of a statement that changed nothing.
func touched(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}

func taken(err error) error {
	if err != nil && strings.Contains(err.Error(), "UNIQUE constraint failed") {
		return ErrTaken
	}
	return err
}

// Operator is a person who administers Tollgate Key.
type Operator struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Hash      string `db:"hash"`
	CreatedAt int64  `db:"created_at"`
}

// Operators lists the operators.
func (s *Store) Operators(ctx context.Context) ([]Operator, error) {
	out := []Operator{}
	err := s.db.SelectContext(ctx, &out, "SELECT id, name, hash, created_at FROM operators ORDER BY name")
	return out, err
}

// OperatorByName returns an operator.
func (s *Store) OperatorByName(ctx context.Context, name string) (Operator, error) {
	var o Operator
	err := s.db.GetContext(ctx, &o, "SELECT id, name, hash, created_at FROM operators WHERE name = ? COLLATE NOCASE", name)
	return o, notFound(err)
}

// AddOperator adds an operator; with first set, only if there is none yet.
func (s *Store) AddOperator(ctx context.Context, o Operator, first bool) error {
	err := s.exec(ctx, `INSERT INTO operators (id, name, hash, created_at)
		SELECT ?, ?, ?, ? WHERE ? = 0 OR NOT EXISTS (SELECT 1 FROM operators)`, o.ID, o.Name, o.Hash, o.CreatedAt, first)
	if errors.Is(err, ErrNotFound) { // it was to be the first, and there is one
		return ErrTaken
	}
	return taken(err)
}

// RemoveOperator removes an operator with all sessions and tokens, but never the last one.
func (s *Store) RemoveOperator(ctx context.Context, id string) error {
	return s.exec(ctx, "DELETE FROM operators WHERE id = ? AND (SELECT count(*) FROM operators) > 1", id)
}

// Key is a browser session or a command-line token.
type Key struct {
	ID        string `db:"id"`
	Kind      string `db:"kind"`
	Hash      []byte `db:"hash"`
	Operator  string `db:"operator"`
	Name      string `db:"name"`
	CreatedAt int64  `db:"created_at"`
	UsedAt    int64  `db:"used_at"`
	ExpiresAt int64  `db:"expires_at"`
	// Holder is the operator's name, filled on reading.
	Holder string `db:"holder"`
}

const keyColumns = "k.id, k.kind, k.hash, k.operator, k.name, k.created_at, k.used_at, k.expires_at, o.name AS holder"

// AddKey stores a session or token.
func (s *Store) AddKey(ctx context.Context, k Key) error {
	_, err := s.durableExec(ctx, `INSERT INTO keys (id, kind, hash, operator, name, created_at, used_at, expires_at)
		VALUES (:id, :kind, :hash, :operator, :name, :created_at, :used_at, :expires_at)`, k)
	return err
}

// KeyByHash returns the session or token with that SHA-256.
func (s *Store) KeyByHash(ctx context.Context, hash []byte) (Key, error) {
	var k Key
	err := s.db.GetContext(ctx, &k, "SELECT "+keyColumns+" FROM keys k JOIN operators o ON o.id = k.operator WHERE k.hash = ?", hash)
	return k, notFound(err)
}

// Tokens lists the command-line tokens.
func (s *Store) Tokens(ctx context.Context) ([]Key, error) {
	out := []Key{}
	err := s.db.SelectContext(ctx, &out, "SELECT "+keyColumns+" FROM keys k JOIN operators o ON o.id = k.operator WHERE k.kind = 'token' ORDER BY k.created_at DESC")
	return out, err
}

// TouchKey notes the use of a key and moves its end.
func (s *Store) TouchKey(ctx context.Context, id string, used, expires int64) error {
	return touched(s.single.ExecContext(ctx, "UPDATE keys SET used_at = ?, expires_at = ? WHERE id = ?", used, expires, id))
}

// RemoveKey ends a session or token.
func (s *Store) RemoveKey(ctx context.Context, id string) error {
	return s.exec(ctx, "DELETE FROM keys WHERE id = ?", id)
}

// RemoveOldKeys ends all that have passed their end.
func (s *Store) RemoveOldKeys(ctx context.Context, now int64) error {
	_, err := s.single.ExecContext(ctx, "DELETE FROM keys WHERE expires_at > 0 AND expires_at < ?", now)
	return err
}

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
		if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO contacts (address, contact) VALUES (:address, :contact)", c); err != nil {
			return fmt.Errorf("storing the contact %s: %w", c.Address, err)
		}
	}
	return tx.Commit()
}
