-- +goose Up
-- What was done on network gear: sign-ins, commands, and what the gear itself reported. Kept apart from the attempts.
CREATE TABLE journal (
  id       INTEGER PRIMARY KEY,       -- holds the time; in the order of recording
  at       INTEGER NOT NULL,          -- when it was asked, in microseconds since 1970
  kind     TEXT NOT NULL,             -- login, enable, password, shell, command, another service; or start, stop, update
  client   TEXT NOT NULL,
  who      TEXT NOT NULL,             -- the name in lower case
  display  TEXT NOT NULL,
  origin   TEXT NOT NULL,             -- where the person comes from, as the gear says
  port     TEXT NOT NULL,
  command  TEXT NOT NULL,
  verdict  TEXT NOT NULL,             -- admitted, refused, '' for what the gear reported
  reason   TEXT NOT NULL,
  pass     TEXT NOT NULL,
  line     TEXT NOT NULL,             -- the line of the command list that decided
  level    INTEGER NOT NULL,          -- privilege level
  task     TEXT NOT NULL,             -- joins start, updates and stop
  args     TEXT NOT NULL,             -- arguments as they came, a JSON list
  revision INTEGER NOT NULL,          -- in effect; 0 for what the gear reported
  trial    INTEGER NOT NULL
);
CREATE INDEX journal_who ON journal (who, id);
