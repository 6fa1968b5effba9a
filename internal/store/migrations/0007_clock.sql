-- +goose Up
-- When the service was last seen running, in milliseconds since 1970.
CREATE TABLE seen_running (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  at   INTEGER NOT NULL
);
