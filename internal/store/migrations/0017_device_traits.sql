-- +goose Up
-- What was seen of devices beside their addresses, by any node.
CREATE TABLE device_traits (
	mac TEXT PRIMARY KEY,
	fingerprint TEXT NOT NULL,
	vendor_class TEXT NOT NULL,
	host TEXT NOT NULL,
	seen_at INTEGER NOT NULL
) STRICT;
