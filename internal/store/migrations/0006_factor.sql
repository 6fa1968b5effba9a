-- +goose Up
-- Devices that make one-time codes (RFC 6238), of people in any store. What the codes are made with, and the recovery codes that are
-- left, are sealed in secrets. step is the last one that was taken, so that no code counts twice; skew is by how many steps the
-- clock of the device is ahead.
CREATE TABLE factors (
	id TEXT PRIMARY KEY,
	store TEXT NOT NULL,
	name TEXT NOT NULL,
	display TEXT NOT NULL,
	label TEXT NOT NULL,
	algorithm TEXT NOT NULL,
	digits INTEGER NOT NULL,
	period INTEGER NOT NULL,
	secrets TEXT NOT NULL,
	recovery INTEGER NOT NULL,
	confirmed INTEGER NOT NULL,
	step INTEGER NOT NULL,
	skew INTEGER NOT NULL,
	made_at INTEGER NOT NULL,
	made_by TEXT NOT NULL,
	used_at INTEGER NOT NULL,
	used_on TEXT NOT NULL
);
