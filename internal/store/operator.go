package store

import (
	"context"
	"errors"
)

// Operator is a person who administers Tollgate Key.
type Operator struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Hash      string `db:"hash"`
	Role      string `db:"role"`
	CreatedAt int64  `db:"created_at"`
}

// Operators lists the operators.
func (s *Store) Operators(ctx context.Context) ([]Operator, error) {
	out := []Operator{}
	err := s.db.SelectContext(ctx, &out, "SELECT id, name, hash, role, created_at FROM operators ORDER BY name")
	return out, err
}

// OperatorByName returns an operator.
func (s *Store) OperatorByName(ctx context.Context, name string) (Operator, error) {
	var o Operator
	err := s.db.GetContext(ctx, &o, "SELECT id, name, hash, role, created_at FROM operators WHERE name = ? "+
		"COLLATE NOCASE",
		name)
	return o, notFound(err)
}

// AddOperator adds an operator; with first set, only if there is none yet.
func (s *Store) AddOperator(ctx context.Context, o Operator, first bool) error {
	err := s.exec(ctx, `INSERT INTO operators (id, name, hash, role, created_at)
		SELECT ?, ?, ?, ?, ? WHERE ? = 0 OR NOT EXISTS (SELECT 1 FROM operators)`, o.ID, o.Name, o.Hash, o.Role,
		o.CreatedAt, first)
	if errors.Is(err, ErrNotFound) { // it was to be the first, and there is one
		return ErrTaken
	}
	return taken(err)
}

// anotherOwner is a condition: somebody else is an owner. It is part of one statement with the change, so that two who
// remove each other at once do not both succeed.
const anotherOwner = "EXISTS (SELECT 1 FROM operators o WHERE o.id <> operators.id AND o.role = 'owner')"

// RemoveOperator removes an operator with all sessions and tokens, but never the last owner.
func (s *Store) RemoveOperator(ctx context.Context, id string) error {
	return s.exec(ctx, "DELETE FROM operators WHERE id = ? AND (role <> 'owner' OR "+anotherOwner+")", id)
}

// SetRole gives an operator another role, but leaves the last owner one.
func (s *Store) SetRole(ctx context.Context, id, role string) error {
	return s.exec(ctx, "UPDATE operators SET role = ? WHERE id = ? AND (role <> 'owner' OR ? = 'owner' OR "+
		anotherOwner+")", role, id, role)
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
	// Holder is the operator's name and Role what that one may do, filled on reading.
	Holder string `db:"holder"`
	Role   string `db:"role"`
}

const keyColumns = "k.id, k.kind, k.hash, k.operator, k.name, k.created_at, k.used_at, k.expires_at, k.scope, " +
	"k.prefixes, o.name AS " +
	"holder, " +
	"o.role"

// AddKey stores a session or token.
func (s *Store) AddKey(ctx context.Context, k Key) error {
	_, err := s.namedExec(ctx,
		`INSERT INTO keys (id, kind, hash, operator, name, created_at, used_at, expires_at, scope,
		prefixes) VALUES (:id, :kind, :hash, :operator, :name, :created_at, :used_at, :expires_at, :scope, :prefixes)`, k)
	return err
}

// KeyByHash returns the session or token with that SHA-256.
func (s *Store) KeyByHash(ctx context.Context, hash []byte) (Key, error) {
	var k Key
	err := s.db.GetContext(ctx, &k, "SELECT "+keyColumns+" FROM keys k JOIN operators o ON o.id = k.operator WHERE "+
		"k.hash = ?", hash)
	return k, notFound(err)
}

// Tokens lists the command-line tokens.
func (s *Store) Tokens(ctx context.Context) ([]Key, error) {
	out := []Key{}
	err := s.db.SelectContext(ctx, &out, "SELECT "+keyColumns+" FROM keys k JOIN operators o ON o.id = k.operator "+
		"WHERE k.kind = 'token' ORDER BY k.created_at DESC")
	return out, err
}

// TouchKey notes the use of a key and moves its end.
func (s *Store) TouchKey(ctx context.Context, id string, used, expires int64) error {
	return touched(s.single.ExecContext(ctx, "UPDATE keys SET used_at = ?, expires_at = ? WHERE id = ?", used, expires,
		id))
}

// RemoveKey ends a session or token.
func (s *Store) RemoveKey(ctx context.Context, id string) error {
	return s.exec(ctx, "DELETE FROM keys WHERE id = ?", id)
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
