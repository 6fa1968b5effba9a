-- +goose Up
-- Our machine accounts. The password before is kept, since domain controllers learn of a new one after each other.
CREATE TABLE machine_accounts (
  domain     TEXT NOT NULL,
  computer   TEXT NOT NULL,
  password   TEXT NOT NULL,           -- sealed
  previous   TEXT NOT NULL,           -- sealed, '' if there is none
  changed_at INTEGER NOT NULL,        -- milliseconds since 1970
  PRIMARY KEY (domain, computer)
) WITHOUT ROWID;

-- The last outcome of each line of the checkup, and since when it is so.
CREATE TABLE checkup (
  key    TEXT PRIMARY KEY,
  line   BLOB NOT NULL,               -- JSON
  state  TEXT NOT NULL,
  since  INTEGER NOT NULL,
  at     INTEGER NOT NULL
) WITHOUT ROWID;

-- What changed from one checkup to the next.
CREATE TABLE checkup_changes (
  id   INTEGER PRIMARY KEY,
  key  TEXT NOT NULL,
  line BLOB NOT NULL,                 -- JSON, as it is now
  was  TEXT NOT NULL,                 -- the state before
  at   INTEGER NOT NULL
);

-- Copies of people that directories keep.
CREATE TABLE people (
  directory  TEXT NOT NULL,           -- identifier of the directory
  id         TEXT NOT NULL,           -- what does not change when somebody is renamed
  name       TEXT NOT NULL,
  display    TEXT NOT NULL,
  dn         TEXT NOT NULL,
  state      TEXT NOT NULL,
  attributes BLOB NOT NULL,           -- JSON object of lists
  missing    TEXT NOT NULL,           -- wanted attributes that are empty, with commas between
  seen_at    INTEGER NOT NULL,
  gone_at    INTEGER NOT NULL,        -- 0 while it is there
  PRIMARY KEY (directory, id)
) WITHOUT ROWID;
CREATE INDEX people_by_name ON people (directory, name);

-- The last run of the copy of each directory.
CREATE TABLE people_runs (
  directory TEXT PRIMARY KEY,
  run       BLOB NOT NULL             -- JSON
) WITHOUT ROWID;
