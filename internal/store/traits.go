package store

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// DeviceTraits are what was seen of a device beside its address; see package facts.
type DeviceTraits struct {
	MAC         string `db:"mac" json:"mac"`
	Fingerprint string `db:"fingerprint" json:"fingerprint,omitempty"`
	VendorClass string `db:"vendor_class" json:"vendorClass,omitempty"`
	Host        string `db:"host" json:"host,omitempty"`
	// SeenAt is when it was seen last, in milliseconds since 1970.
	SeenAt int64 `db:"seen_at" json:"seenAt"`
}

// DeviceTraits returns those of all devices, the latest first.
func (s *Store) DeviceTraits(ctx context.Context, limit int) ([]DeviceTraits, error) {
	out := []DeviceTraits{}
	err := s.db.SelectContext(ctx, &out, "SELECT mac, fingerprint, vendor_class, host, seen_at FROM device_traits "+
		"ORDER BY seen_at DESC LIMIT ?", limit)
	if err != nil {
		return nil, fmt.Errorf("reading what was seen of devices: %w", err)
	}
	return out, nil
}

// SaveDeviceTraits writes those of some devices, and forgets others.
func (s *Store) SaveDeviceTraits(ctx context.Context, list []DeviceTraits, forget []string) error {
	return s.here(ctx, func(tx *sqlx.Tx) error {
		for _, mac := range forget {
			if _, err := tx.ExecContext(ctx, "DELETE FROM device_traits WHERE mac = ?", mac); err != nil {
				return err
			}
		}
		for _, t := range list {
			_, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE INTO device_traits (mac, fingerprint, vendor_class, "+
				"host, seen_at) VALUES (:mac, :fingerprint, :vendor_class, :host, :seen_at)", t)
			if err != nil {
				return err
			}
		}
		return nil
	})
}
