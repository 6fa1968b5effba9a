-- +goose Up
-- The highest number that a node ever had: the records of one that was removed are told by its number.
ALTER TABLE node_settings ADD COLUMN highest INTEGER NOT NULL DEFAULT 0;
