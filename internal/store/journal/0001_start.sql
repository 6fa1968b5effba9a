-- +goose Up
-- What was done on network gear: sign-ins, commands, and what the gear itself reported. Kept apart from the attempts.
CREATE TABLE journal (
  id      INTEGER PRIMARY KEY,        -- in the order of recording
  at      INTEGER NOT NULL,           -- when it was asked, in microseconds since 1970
  kind    TEXT NOT NULL,              -- login, enable, password, shell, command, another service; or start, stop, update
  client  TEXT NOT NULL,
  who     TEXT NOT NULL,              -- the name in lower case
  command TEXT NOT NULL,
  verdict TEXT NOT NULL,              -- admitted, refused, '' for what the gear reported
  task    TEXT NOT NULL,              -- joins start, updates and stop
  rest    TEXT NOT NULL               -- what nobody filters by, as JSON
);
CREATE INDEX journal_who ON journal (who, id);
