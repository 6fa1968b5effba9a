-- +goose Up
-- The objects of the configuration, one row for each form that an object had: it stands in the revisions from since on,
-- and before until. A revision that was published before this table has its configuration in its own row.
CREATE TABLE objects (
  kind  TEXT NOT NULL,
  id    TEXT NOT NULL,
  since INTEGER NOT NULL,
  until INTEGER,                      -- NULL while it stands in the newest revision
  body  BLOB NOT NULL,                -- JSON, secrets sealed
  PRIMARY KEY (kind, id, since)
) WITHOUT ROWID;

-- How the draft differs from the newest revision.
CREATE TABLE draft_objects (
  kind     TEXT NOT NULL,
  id       TEXT NOT NULL,
  body     BLOB,                      -- NULL if the draft does not hold the object
  operator TEXT NOT NULL,
  at       INTEGER NOT NULL,          -- milliseconds since 1970
  PRIMARY KEY (kind, id)
) WITHOUT ROWID;
