-- +goose Up
-- Who did what. Each line is recorded in the transaction of the change that it tells of; its hash covers its text and
-- the hash of the line before it. The columns are read from the text, so that nothing can differ from it.
CREATE TABLE audit (
  number INTEGER PRIMARY KEY,
  line   TEXT NOT NULL,               -- JSON
  hash   BLOB NOT NULL,
  at     TEXT AS (line ->> '$.at') VIRTUAL,
  who    TEXT COLLATE NOCASE AS (line ->> '$.who') VIRTUAL,
  kind   TEXT AS (line ->> '$.kind') VIRTUAL,
  object TEXT AS (line ->> '$.object') VIRTUAL,
  name   TEXT COLLATE NOCASE AS (line ->> '$.name') VIRTUAL,
  result TEXT AS (line ->> '$.result') VIRTUAL
);
CREATE INDEX audit_who ON audit (who, number);
CREATE INDEX audit_object ON audit (kind, object, number);

-- The key that heads of the audit are signed with.
CREATE TABLE audit_key (
  only   INTEGER PRIMARY KEY CHECK (only = 1),
  sealed TEXT NOT NULL
);
