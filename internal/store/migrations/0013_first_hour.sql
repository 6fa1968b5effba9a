-- +goose Up
-- Steps of the first hour that somebody put off, or said to be done.
CREATE TABLE first_hour (
  step     TEXT PRIMARY KEY,
  at       INTEGER NOT NULL,
  operator TEXT NOT NULL
);
