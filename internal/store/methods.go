package store

import (
	"context"

	"fmt"

	"github.com/jmoiron/sqlx"
)

// Device is a known device.
type Device struct {
	ID        string `db:"id"`
	Match     string `db:"match"`
	Name      string `db:"name"`
	Owner     string `db:"owner"`
	Tags      []byte `db:"tags"`
	Note      string `db:"note"`
	Enabled   bool   `db:"enabled"`
	Expires   int64  `db:"expires"`
	ChangedAt int64  `db:"changed_at"`
	ChangedBy string `db:"changed_by"`
}

// Devices returns all known devices.
func (s *Store) Devices(ctx context.Context) ([]Device, error) {
	out := []Device{}
	err := s.db.SelectContext(ctx, &out, "SELECT id, match, name, owner, tags, note, enabled, expires, changed_at, changed_by FROM devices ORDER BY match")
	return out, err
}

// SaveDevices adds or replaces devices, all or none. A match that another device has gives ErrTaken.
func (s *Store) SaveDevices(ctx context.Context, list []Device) error {
	return s.durably(ctx, func(tx *sqlx.Tx) error {
		for _, d := range list {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO devices (id, match, name, owner, tags, note, enabled, expires, changed_at, changed_by)
				VALUES (:id, :match, :name, :owner, :tags, :note, :enabled, :expires, :changed_at, :changed_by)
				ON CONFLICT (id) DO UPDATE SET match = excluded.match, name = excluded.name, owner = excluded.owner, tags = excluded.tags, note = excluded.note,
				enabled = excluded.enabled, expires = excluded.expires, changed_at = excluded.changed_at, changed_by = excluded.changed_by`, d); err != nil {
				return taken(err)
			}
		}
		return nil
	})
}

// RemoveDevice removes a device.
func (s *Store) RemoveDevice(ctx context.Context, id string) error {
	return s.exec(ctx, "DELETE FROM devices WHERE id = ?", id)
}

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
	err := s.db.SelectContext(ctx, &out, "SELECT id, authority, serial, subject, purpose, pem, until, issued_at, issued_by, revoked_at FROM issued ORDER BY id DESC")
	return out, err
}

// SaveIssued records an issued certificate.
func (s *Store) SaveIssued(ctx context.Context, i Issued) error {
	_, err := s.durableExec(ctx, `INSERT INTO issued (id, authority, serial, subject, purpose, pem, until, issued_at, issued_by, revoked_at)
		VALUES (:id, :authority, :serial, :subject, :purpose, :pem, :until, :issued_at, :issued_by, :revoked_at)`, i)
	return taken(err)
}

// Revoke marks an issued certificate as revoked.
func (s *Store) Revoke(ctx context.Context, id string, at int64) error {
	return s.exec(ctx, "UPDATE issued SET revoked_at = ? WHERE id = ? AND revoked_at = 0", at, id)
}

// Machine is a computer that was proven from a MAC address.
type Machine struct {
	MAC  string `db:"mac"`
	Name string `db:"name"`
	At   int64  `db:"at"`
}

// Machines returns what was seen since a moment, and forgets what is older.
func (s *Store) Machines(ctx context.Context, since int64) ([]Machine, error) {
	if _, err := s.single.ExecContext(ctx, "DELETE FROM machines WHERE at < ?", since); err != nil {
		return nil, fmt.Errorf("forgetting computers: %w", err)
	}
	out := []Machine{}
	err := s.db.SelectContext(ctx, &out, "SELECT mac, name, at FROM machines ORDER BY at")
	return out, err
}

// SaveMachines records computers, all in one transaction.
func (s *Store) SaveMachines(ctx context.Context, list []Machine) error {
	tx, err := s.single.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, m := range list {
		if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO machines (mac, name, at) VALUES (:mac, :name, :at)", m); err != nil {
			return err
		}
	}
	return tx.Commit()
}
