-- +goose Up
-- How often each policy, and each row of its group table, decided an attempt, by the hour and the revision in effect.
CREATE TABLE hits (
  policy   TEXT NOT NULL,             -- identifier of the policy
  grp      TEXT NOT NULL,             -- group of the row, '' for a policy without a table
  revision INTEGER NOT NULL,
  hour     INTEGER NOT NULL,          -- hours since 1970
  count    INTEGER NOT NULL,
  last     INTEGER NOT NULL,          -- milliseconds since 1970
  PRIMARY KEY (policy, grp, revision, hour)
) WITHOUT ROWID;


-- Addresses of pools that are taken by sessions.
CREATE TABLE leases (
  address TEXT PRIMARY KEY,
  pool    TEXT NOT NULL,
  who     TEXT NOT NULL,
  client  TEXT NOT NULL,
  holder  TEXT NOT NULL,              -- what tells the session from others
  at      INTEGER NOT NULL,           -- milliseconds since 1970
  until   INTEGER NOT NULL
) WITHOUT ROWID;
