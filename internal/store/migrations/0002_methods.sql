-- +goose Up
-- What is kept of an account's password beside its hash: hash, nt-hash or password; proof is that, sealed.
ALTER TABLE accounts ADD COLUMN keeps TEXT NOT NULL DEFAULT 'hash';
ALTER TABLE accounts ADD COLUMN proof TEXT NOT NULL DEFAULT '';

CREATE TABLE devices (
  id         TEXT PRIMARY KEY,
  match      TEXT NOT NULL UNIQUE,    -- 02-00-5E-10-7A-31, or a prefix such as 02-00-5E-*
  name       TEXT NOT NULL,
  owner      TEXT NOT NULL,
  tags       BLOB NOT NULL,           -- JSON object
  note       TEXT NOT NULL,
  enabled    INTEGER NOT NULL,
  expires    INTEGER NOT NULL,        -- milliseconds since 1970, 0 is never
  changed_at INTEGER NOT NULL,
  changed_by TEXT NOT NULL
);

-- Certificates that our own authorities issued.
CREATE TABLE issued (
  id         TEXT PRIMARY KEY,
  authority  TEXT NOT NULL,           -- identifier of the authority
  serial     TEXT NOT NULL,           -- hexadecimal
  subject    TEXT NOT NULL,
  purpose    TEXT NOT NULL,           -- client or server
  pem        TEXT NOT NULL,
  until      INTEGER NOT NULL,
  issued_at  INTEGER NOT NULL,
  issued_by  TEXT NOT NULL,
  revoked_at INTEGER NOT NULL,        -- 0 is not revoked
  UNIQUE (authority, serial)
);

-- When a computer was last proven from a MAC address.
CREATE TABLE machines (
  mac  TEXT PRIMARY KEY,
  name TEXT NOT NULL,
  at   INTEGER NOT NULL
) WITHOUT ROWID;
