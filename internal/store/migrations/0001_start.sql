-- +goose Up
CREATE TABLE revisions (
  number   INTEGER PRIMARY KEY,
  at       INTEGER NOT NULL,          -- milliseconds since 1970
  operator TEXT NOT NULL,
  note     TEXT NOT NULL,
  changes  BLOB NOT NULL,             -- JSON, what changed against the revision before
  config   BLOB NOT NULL              -- JSON, secrets sealed
);

CREATE TABLE draft (
  only     INTEGER PRIMARY KEY CHECK (only = 1),
  at       INTEGER NOT NULL,
  operator TEXT NOT NULL,
  config   BLOB NOT NULL,
  authors  BLOB NOT NULL              -- JSON, object ID -> who changed it last and when
);

-- The time of an attempt is in the upper bits of its id, so that the primary key serves every range of time.
CREATE TABLE attempts (
  id       INTEGER PRIMARY KEY,
  verdict  TEXT NOT NULL,
  reason   TEXT NOT NULL,
  client   TEXT NOT NULL,
  who      TEXT NOT NULL,             -- the name as looked up, in lower case
  sent     TEXT NOT NULL,
  display  TEXT NOT NULL,
  mac      TEXT NOT NULL,
  place    TEXT NOT NULL,
  lane     TEXT NOT NULL,
  policy   TEXT NOT NULL,
  pass     TEXT NOT NULL,
  vlan     TEXT NOT NULL,
  revision INTEGER NOT NULL,
  micros   INTEGER NOT NULL,
  facts    BLOB NOT NULL              -- JSON
);
-- Names and MAC addresses of attempts, for finding one person's among millions. Keeping two indexes of random keys up
-- to date costs more than the recording itself, so the writer fills this table when it has nothing else to do; seen_until
-- is how far it came. What is newer is found by looking at each.
CREATE TABLE seen (
  key TEXT NOT NULL,
  id  INTEGER NOT NULL,
  PRIMARY KEY (key, id)
) WITHOUT ROWID;
CREATE TABLE seen_until (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  id   INTEGER NOT NULL
);
INSERT INTO seen_until VALUES (1, 0);

CREATE TABLE accounts (
  id         TEXT PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE COLLATE NOCASE,
  display    TEXT NOT NULL,
  mail       TEXT NOT NULL,
  groups     BLOB NOT NULL,           -- JSON list
  enabled    INTEGER NOT NULL,
  expires    INTEGER NOT NULL,        -- milliseconds since 1970, 0 is never
  hash       TEXT NOT NULL,
  version    INTEGER NOT NULL,
  changed_at INTEGER NOT NULL,
  changed_by TEXT NOT NULL
);

CREATE TABLE operators (
  id         TEXT PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE COLLATE NOCASE,
  hash       TEXT NOT NULL,
  created_at INTEGER NOT NULL
);

-- Browser sessions and command-line tokens; only the SHA-256 of what the bearer holds is kept.
CREATE TABLE keys (
  id       TEXT PRIMARY KEY,
  kind     TEXT NOT NULL,             -- session, token
  hash     BLOB NOT NULL UNIQUE,
  operator TEXT NOT NULL REFERENCES operators (id) ON DELETE CASCADE,
  name     TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  used_at  INTEGER NOT NULL,
  expires_at INTEGER NOT NULL         -- 0 is never
);

-- What each source address was last seen doing.
CREATE TABLE contacts (
  address  TEXT PRIMARY KEY,
  contact  BLOB NOT NULL              -- JSON
);
