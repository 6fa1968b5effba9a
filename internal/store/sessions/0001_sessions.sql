-- +goose Up
-- The sessions that are open, as records of accounting up to the one in applied make them. What came later is applied again at
-- the start, so a crash loses nothing.
CREATE TABLE open_sessions (
  id   INTEGER PRIMARY KEY,
  data BLOB NOT NULL
);
CREATE TABLE applied (
  only INTEGER PRIMARY KEY CHECK (only = 1),
  last INTEGER NOT NULL
);
-- +goose Down
DROP TABLE open_sessions;
DROP TABLE applied;
