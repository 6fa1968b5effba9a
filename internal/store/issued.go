package store

import "context"

// Issued is a certificate that one of our authorities issued.
type Issued struct {
	ID        string `db:"id"`
	Authority string `db:"authority"`
	Serial    string `db:"serial"`
	Subject   string `db:"subject"`
	Purpose   string `db:"purpose"`
	PEM       string `db:"pem"`
	Until     int64  `db:"until"`
	IssuedAt  int64  `db:"issued_at"`
	IssuedBy  string `db:"issued_by"`
	RevokedAt int64  `db:"revoked_at"`
}

// IssuedAll returns every issued certificate, the newest first.
func (s *Store) IssuedAll(ctx context.Context) ([]Issued, error) {
	out := []Issued{}
	err := s.db.SelectContext(ctx, &out, selectIssued+" ORDER BY id DESC")
	return out, err
}

// SaveIssued records an issued certificate.
func (s *Store) SaveIssued(ctx context.Context, i Issued) error {
	_, err := s.namedExec(ctx,
		`INSERT INTO issued (id, authority, serial, subject, purpose, pem, until, issued_at, issued_by, revoked_at)
		VALUES (:id, :authority, :serial, :subject, :purpose, :pem, :until, :issued_at, :issued_by, :revoked_at)`, i)
	return taken(err)
}

// Revoke marks an issued certificate as revoked.
func (s *Store) Revoke(ctx context.Context, id string, at int64) error {
	return s.exec(ctx, "UPDATE issued SET revoked_at = ? WHERE id = ? AND revoked_at = 0", at, id)
}

const selectIssued = `SELECT id, authority, serial, subject, purpose, pem, until, issued_at, issued_by, revoked_at FROM issued`

// IssuedByID returns one issued certificate; ErrNotFound if there is none.
func (s *Store) IssuedByID(ctx context.Context, id string) (Issued, error) {
	var out Issued
	err := s.db.GetContext(ctx, &out, selectIssued+" WHERE id = ?", id)
	return out, notFound(err)
}
