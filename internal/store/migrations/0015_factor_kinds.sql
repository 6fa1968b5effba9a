-- +goose Up
-- What a second factor is: '' for a device with one-time codes, 'phone' for one that approves, 'key' for a security key,
-- and 'person' for what all those of a person have in common.
ALTER TABLE factors ADD COLUMN kind TEXT NOT NULL DEFAULT '';
ALTER TABLE operator_factors ADD COLUMN kind TEXT NOT NULL DEFAULT '';
