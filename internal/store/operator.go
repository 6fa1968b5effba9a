package store

import (
	"context"
	"errors"

	"github.com/jmoiron/sqlx"
)

// Operator is a person who administers Tollgate Key.
type Operator struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Hash      string `db:"hash"`
	Role      string `db:"role"`
	CreatedAt int64  `db:"created_at"`
	// Source is where the operator is kept: "" is here, otherwise a directory or the identity provider, with the
	// Subject there.
	Source  string `db:"source"`
	Subject string `db:"subject"`
	SeenAt  int64  `db:"seen_at"`
	// Limits are tags of clients, key=value with spaces between, that the role is limited to; "" for all clients.
	Limits string `db:"limits"`
}

const selectOperator = "SELECT id, name, hash, role, created_at, source, subject, seen_at, limits FROM operators "

// Operators lists the operators.
func (s *Store) Operators(ctx context.Context) ([]Operator, error) {
	out := []Operator{}
	err := s.db.SelectContext(ctx, &out, selectOperator+"ORDER BY name")
	return out, err
}

// OperatorByName returns an operator.
func (s *Store) OperatorByName(ctx context.Context, name string) (Operator, error) {
	var o Operator
	err := s.db.GetContext(ctx, &o, selectOperator+"WHERE name = ? COLLATE NOCASE", name)
	return o, notFound(err)
}

// OperatorElsewhere returns the operator who is somebody at a source.
func (s *Store) OperatorElsewhere(ctx context.Context, source, subject string) (Operator, error) {
	var o Operator
	err := s.db.GetContext(ctx, &o, selectOperator+"WHERE source = ? AND subject = ?", source, subject)
	return o, notFound(err)
}

// AddOperator adds an operator; with first set, only if there is none yet.
func (s *Store) AddOperator(ctx context.Context, o Operator, first bool) error {
	err := s.exec(ctx, `INSERT INTO operators (id, name, hash, role, created_at, source, subject, seen_at, limits)
		SELECT ?, ?, ?, ?, ?, ?, ?, ?, ? WHERE ? = 0 OR NOT EXISTS (SELECT 1 FROM operators)`, o.ID, o.Name, o.Hash,
		o.Role, o.CreatedAt, o.Source, o.Subject, o.SeenAt, o.Limits, first)
	if errors.Is(err, ErrNotFound) { // it was to be the first, and there is one
		return ErrTaken
	}
	return taken(err)
}

// anotherOwner is a condition: somebody else who is kept here is an owner. It is part of one statement with the change,
// so that two who remove each other at once do not both succeed.
const anotherOwner = "EXISTS (SELECT 1 FROM operators o WHERE o.id <> operators.id AND o.role = 'owner' AND " +
	"o.source = '')"

// RemoveOperator removes an operator with all sessions and tokens, but never the last owner.
func (s *Store) RemoveOperator(ctx context.Context, id string) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM operator_factors WHERE name = "+
			"(SELECT name FROM operators WHERE id = ?)",
			id); err != nil {
			return err
		}
		return touched(
			tx.ExecContext(ctx, "DELETE FROM operators WHERE id = ? AND (role <> 'owner' OR source <> '' OR "+
				anotherOwner+")", id),
		)
	})
}

// SetPassword gives an operator who is kept here another password, and ends all sessions but one.
func (s *Store) SetPassword(ctx context.Context, id, hash, but string) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if err := touched(tx.ExecContext(ctx, "UPDATE operators SET hash = ? WHERE id = ? AND source = ''", hash,
			id)); err != nil {
			return err
		}
		_, err := tx.ExecContext(
			ctx,
			"DELETE FROM keys WHERE operator = ? AND kind = 'session' AND id <> ?",
			id,
			but,
		)
		return err
	})
}

// RemoveKeys ends all sessions and tokens of an operator.
func (s *Store) RemoveKeys(ctx context.Context, operator string) error {
	_, err := s.namedExec(ctx, "DELETE FROM keys WHERE operator = :operator", map[string]any{"operator": operator})
	return err
}

// SeenOperator notes a sign-in of somebody from elsewhere, with the role that it gives.
func (s *Store) SeenOperator(ctx context.Context, id, role string, at int64) error {
	return s.softly(ctx, func(tx *sqlx.Tx) error {
		return touched(tx.ExecContext(ctx, "UPDATE operators SET role = ?, seen_at = ? WHERE id = ?", role, at, id))
	})
}

// ResetOwner makes somebody an owner who is kept here, with a password, whatever there was; all sessions and tokens,
// and the second factor of that name, are gone.
func (s *Store) ResetOwner(ctx context.Context, o Operator) error {
	return s.softly(ctx, func(tx *sqlx.Tx) error { // while the service is stopped it is shared at its next start
		for _, one := range []string{"keys WHERE operator IN (SELECT id FROM operators WHERE name = ? COLLATE NOCASE)",
			"operator_factors WHERE name = ? COLLATE NOCASE"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+one, o.Name); err != nil {
				return err
			}
		}
		// who is there stays the same row: other nodes may change it meanwhile, and know it by its identifier
		_, err := tx.NamedExecContext(ctx, `INSERT INTO operators (id, name, hash, role, created_at) VALUES (:id, :name,
			:hash, 'owner', :created_at) ON CONFLICT (name) DO UPDATE SET name = excluded.name, hash = excluded.hash,
			role = 'owner', source = '', subject = '', limits = ''`, o)
		return err
	})
}

// SetRole gives an operator another role, and limits it to clients with tags, but leaves the last owner one.
func (s *Store) SetRole(ctx context.Context, id, role, limits string) error {
	return s.exec(
		ctx,
		"UPDATE operators SET role = ?, limits = ? WHERE id = ? AND (role <> 'owner' OR ? = 'owner' OR "+
			"source <> '' OR "+anotherOwner+")",
		role,
		limits,
		id,
		role,
	)
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
	// Scope is a role whose rights it has at most, "" for those of its operator; Prefixes are where it is good from,
	// with spaces between, "" for anywhere.
	Scope    string `db:"scope"`
	Prefixes string `db:"prefixes"`
	// Address is where it was made, Agent by which program; LastAt is its end however much it is used, 0 for none;
	// Factor tells that a second factor was shown.
	Address string `db:"address"`
	Agent   string `db:"agent"`
	LastAt  int64  `db:"last_at"`
	Factor  bool   `db:"factor"`
	// Holder is the operator's name and Role what that one may do, filled on reading.
	Holder string `db:"holder"`
	Role   string `db:"role"`
	Source string `db:"source"`
	Limits string `db:"limits"`
}

const keyColumns = "k.id, k.kind, k.hash, k.operator, k.name, k.created_at, k.used_at, k.expires_at, k.scope, " +
	"k.prefixes, k.address, k.agent, k.last_at, k.factor, o.name AS holder, o.role, o.source, o.limits"

// AddKey stores a session or token.
func (s *Store) AddKey(ctx context.Context, k Key) error {
	return s.softly(ctx, func(tx *sqlx.Tx) error { // operators can sign in whatever became of other nodes
		_, err := tx.NamedExecContext(ctx, `INSERT INTO keys (id, kind, hash, operator, name, created_at, used_at,
			expires_at, scope, prefixes, address, agent, last_at, factor) VALUES (:id, :kind, :hash, :operator, :name,
			:created_at, :used_at, :expires_at, :scope, :prefixes, :address, :agent, :last_at, :factor)`, k)
		return err
	})
}

// KeyByHash returns the session or token with that SHA-256.
func (s *Store) KeyByHash(ctx context.Context, hash []byte) (Key, error) {
	var k Key
	err := s.db.GetContext(
		ctx,
		&k,
		"SELECT "+keyColumns+" FROM keys k JOIN operators o ON o.id = k.operator WHERE "+
			"k.hash = ?",
		hash,
	)
	return k, notFound(err)
}

// Keys lists the keys of a kind: token or session.
func (s *Store) Keys(ctx context.Context, kind string) ([]Key, error) {
	out := []Key{}
	err := s.db.SelectContext(ctx, &out, "SELECT "+keyColumns+" FROM keys k JOIN operators o ON o.id = k.operator "+
		"WHERE k.kind = ? ORDER BY k.created_at DESC, k.id DESC", kind)
	return out, err
}

// ShowFactor notes that the second factor was shown in a session.
func (s *Store) ShowFactor(ctx context.Context, id string) error {
	return s.softly(ctx, func(tx *sqlx.Tx) error {
		return touched(tx.ExecContext(ctx, "UPDATE keys SET factor = 1 WHERE id = ?", id))
	})
}

// OperatorSettings returns the settings for operators, ErrNotFound if none were made.
func (s *Store) OperatorSettings(ctx context.Context) (text string, err error) {
	err = s.db.GetContext(ctx, &text, "SELECT settings FROM operator_settings")
	return text, notFound(err)
}

// SaveOperatorSettings stores them.
func (s *Store) SaveOperatorSettings(ctx context.Context, text string) error {
	return s.exec(ctx, "INSERT OR REPLACE INTO operator_settings (only, settings) VALUES (1, ?)", text)
}

// TouchKey notes the use of a key and moves its end.
func (s *Store) TouchKey(ctx context.Context, id string, used, expires int64) error {
	return touched(
		s.single.ExecContext(ctx, "UPDATE keys SET used_at = ?, expires_at = ? WHERE id = ?", used, expires,
			id),
	)
}

// RemoveKey ends a session or token.
func (s *Store) RemoveKey(ctx context.Context, id string) error {
	return s.softly(ctx, func(tx *sqlx.Tx) error {
		return touched(tx.ExecContext(ctx, "DELETE FROM keys WHERE id = ?", id))
	})
}

// RemoveKeyOf ends a session or token of one operator.
func (s *Store) RemoveKeyOf(ctx context.Context, id, operator string) error {
	return s.exec(ctx, "DELETE FROM keys WHERE id = ? AND operator = ?", id, operator)
}

// RemoveOldKeys ends all that have passed their end.
func (s *Store) RemoveOldKeys(ctx context.Context, now int64) error {
	_, err := s.single.ExecContext(ctx, "DELETE FROM keys WHERE expires_at > 0 AND expires_at < ?", now)
	return err
}
