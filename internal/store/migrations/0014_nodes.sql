-- +goose Up
-- Up to which entry of the log that nodes share this file has come; there is a row only while there are several nodes.
-- epoch tells the log from others: it is another one after a recovery.
CREATE TABLE shared_state (
  only    INTEGER PRIMARY KEY CHECK (only = 1),
  epoch   TEXT NOT NULL,
  node    INTEGER NOT NULL,             -- number of this node
  applied INTEGER NOT NULL
);

-- The nodes that share the log, witnesses among them.
CREATE TABLE nodes (
  number      INTEGER PRIMARY KEY,
  name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
  witness     INTEGER NOT NULL,
  address     TEXT NOT NULL,            -- host and port at which other nodes reach it
  engine      TEXT NOT NULL,            -- URL of its engine for those of other nodes
  member      TEXT NOT NULL,            -- identifier of that in the engine
  fingerprint TEXT NOT NULL,            -- SHA-256 of its certificate
  version     TEXT NOT NULL,
  joined_at   INTEGER NOT NULL,         -- milliseconds since 1970
  joined_by   TEXT NOT NULL
);

-- Invitations that were not used yet; only the SHA-256 of what the joiner shows is kept.
CREATE TABLE invitations (
  hash    BLOB PRIMARY KEY,
  name    TEXT NOT NULL,
  witness INTEGER NOT NULL,             -- lets in a witness and nobody else
  until   INTEGER NOT NULL,
  made_by TEXT NOT NULL
) WITHOUT ROWID;

-- The authority that issues the certificates of nodes.
CREATE TABLE node_authority (
  only        INTEGER PRIMARY KEY CHECK (only = 1),
  certificate TEXT NOT NULL,            -- PEM
  key         TEXT NOT NULL             -- sealed
);

-- Which node gives the addresses of a block to sessions; node is -1 where the one that did was removed: the block rests
-- until its sessions must be over.
CREATE TABLE lease_blocks (
  block TEXT PRIMARY KEY,               -- prefix
  node  INTEGER NOT NULL,
  since INTEGER NOT NULL                -- milliseconds since 1970
) WITHOUT ROWID;

-- Settings of all nodes together.
CREATE TABLE node_settings (
  only  INTEGER PRIMARY KEY CHECK (only = 1),
  codes TEXT NOT NULL                   -- one-time codes while no majority is reached: refuse or take
);

-- Rows that were changed here alone while no majority of the nodes could be reached, and are still to be shared: as they
-- were when all nodes had the same, and as they are here. Both are JSON.
CREATE TABLE unshared (
  tbl  TEXT NOT NULL,
  id   TEXT NOT NULL,
  at   INTEGER NOT NULL,
  base TEXT NOT NULL,
  here TEXT NOT NULL,
  PRIMARY KEY (tbl, id)
) WITHOUT ROWID;
