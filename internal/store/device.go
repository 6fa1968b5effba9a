package store

import (
	"context"

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
	err := s.db.SelectContext(ctx, &out, selectDevice+" ORDER BY match")
	return out, err
}

// SaveDevices adds or replaces devices, all or none. A match that another device has gives ErrTaken.
func (s *Store) SaveDevices(ctx context.Context, list []Device) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		for _, d := range list {
			if _, err := tx.NamedExecContext(ctx,
				`INSERT INTO devices (id, match, name, owner, tags, note, enabled, expires, changed_at, changed_by)
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

const selectDevice = `SELECT id, match, name, owner, tags, note, enabled, expires, changed_at, changed_by FROM devices`

// DeviceByID returns one device; ErrNotFound if there is none.
func (s *Store) DeviceByID(ctx context.Context, id string) (Device, error) {
	var out Device
	err := s.db.GetContext(ctx, &out, selectDevice+" WHERE id = ?", id)
	return out, notFound(err)
}
