package store

import (
	"context"

	"tollgate.example/key/internal/base/ident"
)

// Position is up to which record something was sent on.
type Position struct {
	Name string   `db:"name"`
	Kind string   `db:"kind"`
	ID   ident.ID `db:"id"`
	// At is when that record was made, in milliseconds since 1970.
	At int64 `db:"at"`
}

// Positions returns all positions.
func (s *Store) Positions(ctx context.Context) ([]Position, error) {
	out := []Position{}
	err := s.db.SelectContext(ctx, &out, "SELECT name, kind, id, at FROM positions")
	return out, err
}

// SavePosition keeps how far something was sent on.
func (s *Store) SavePosition(ctx context.Context, p Position) error {
	return s.execHere(
		ctx,
		"INSERT OR REPLACE INTO positions (name, kind, id, at) VALUES (?, ?, ?, ?)",
		p.Name,
		p.Kind,
		int64(p.ID),
		p.At,
	)
}

// RemovePositions forgets how far something was sent on, by its name.
func (s *Store) RemovePositions(ctx context.Context, name string) error {
	return s.execHere(ctx, "DELETE FROM positions WHERE name = ?", name)
}
