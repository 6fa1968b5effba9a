-- +goose Up
-- Where an operator comes from: '' is kept here, otherwise a directory by name or the identity provider; subject is who
-- it is there. seen_at is the last sign-in, limits are the tags of clients that the role is limited to.
ALTER TABLE operators ADD COLUMN source TEXT NOT NULL DEFAULT '';
ALTER TABLE operators ADD COLUMN subject TEXT NOT NULL DEFAULT '';
ALTER TABLE operators ADD COLUMN seen_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE operators ADD COLUMN limits TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX operators_elsewhere ON operators (source, subject) WHERE source <> '';

-- Where a session came from, its end whatever its use, and whether a second factor was shown.
ALTER TABLE keys ADD COLUMN address TEXT NOT NULL DEFAULT '';
ALTER TABLE keys ADD COLUMN agent TEXT NOT NULL DEFAULT '';
ALTER TABLE keys ADD COLUMN last_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE keys ADD COLUMN factor INTEGER NOT NULL DEFAULT 0;

-- Second factors of operators: apart from those of people, so that whoever helps people does not reach them.
CREATE TABLE operator_factors (
  id TEXT PRIMARY KEY,
  store TEXT NOT NULL,
  name TEXT NOT NULL,
  display TEXT NOT NULL,
  label TEXT NOT NULL,
  algorithm TEXT NOT NULL,
  digits INTEGER NOT NULL,
  period INTEGER NOT NULL,
  secrets TEXT NOT NULL,              -- sealed
  recovery INTEGER NOT NULL,
  confirmed INTEGER NOT NULL,
  step INTEGER NOT NULL,
  skew INTEGER NOT NULL,
  made_at INTEGER NOT NULL,
  made_by TEXT NOT NULL,
  used_at INTEGER NOT NULL,
  used_on TEXT NOT NULL
);

CREATE TABLE operator_settings (
  only     INTEGER PRIMARY KEY CHECK (only = 1),
  settings TEXT NOT NULL              -- JSON, secrets sealed
);

-- What somebody asks another one to publish.
CREATE TABLE asked (
  only     INTEGER PRIMARY KEY CHECK (only = 1),
  operator TEXT NOT NULL,             -- identifier
  name     TEXT NOT NULL,
  at       INTEGER NOT NULL,
  note     TEXT NOT NULL,
  digest   TEXT NOT NULL,             -- of what is to be published
  revision INTEGER NOT NULL           -- to return to; 0 for the draft
);
