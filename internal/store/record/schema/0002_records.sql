-- +goose Up
-- Step 1 made the journal when it was a table of its own, from which its entries are moved.
-- Records, some hundred together. The identifier is that of the first; since and until are the earliest and the latest time
-- in it, in microseconds since 1970. head has what lists and searches need, body the rest.
CREATE TABLE blocks (
  id    INTEGER PRIMARY KEY,
  last  INTEGER NOT NULL,
  n     INTEGER NOT NULL,
  since INTEGER NOT NULL,
  until INTEGER NOT NULL,
  head  BLOB NOT NULL,
  body  BLOB NOT NULL
);
CREATE INDEX blocks_in_time ON blocks (until, since, n);

-- What the records of consecutive blocks are found by. Blocks behind the last segment are looked at one by one.
CREATE TABLE segments (
  id     INTEGER PRIMARY KEY,       -- of the first block
  last   INTEGER NOT NULL,          -- of the last record
  since  INTEGER NOT NULL,
  until  INTEGER NOT NULL,
  blocks BLOB NOT NULL              -- the identifiers of the blocks
);
-- The sorted values of a field in a segment, each with the places in the list of blocks where it occurs; some values
-- to a row, which begins with the first of them.
CREATE TABLE terms (
  segment INTEGER NOT NULL,
  field   TEXT NOT NULL,
  first   TEXT NOT NULL,
  data    BLOB NOT NULL,
  PRIMARY KEY (segment, field, first)
) WITHOUT ROWID;
