-- +goose Up
-- Who the agent is, of which endpoint it reports, and the number of its last batch. One row.
CREATE TABLE agent (
  id       TEXT    NOT NULL CHECK (length(id) = 36),
  endpoint TEXT    NOT NULL,
  number   INTEGER NOT NULL
) STRICT;

-- Up to where files were read.
CREATE TABLE positions (
  path   TEXT    PRIMARY KEY,
  -- Which file it was: its number on its device, and a hash of how it begins, over so many bytes.
  device INTEGER NOT NULL,
  inode  INTEGER NOT NULL,
  begins TEXT    NOT NULL,
  read   INTEGER NOT NULL,
  -- Milliseconds since 1970: since when a file is waited for, where none was there yet.
  since  INTEGER NOT NULL
) STRICT;

-- Lines as they came, some thousand in a row, until they are summed up.
CREATE TABLE raw (
  id    INTEGER PRIMARY KEY AUTOINCREMENT,
  -- Milliseconds since 1970: when they came.
  at    INTEGER NOT NULL,
  lines BLOB    NOT NULL
) STRICT;

-- What was posted under a key, so that it counts once when it is posted again.
CREATE TABLE posted (
  key TEXT    PRIMARY KEY,
  at  INTEGER NOT NULL
) STRICT;
CREATE INDEX posted_by_age ON posted (at);

-- Batches that the service has not taken yet, whether it was told of one, and why it refused one for good.
CREATE TABLE batches (
  number  INTEGER PRIMARY KEY,
  body    BLOB    NOT NULL,
  tried   INTEGER NOT NULL CHECK (tried IN (0, 1)) DEFAULT 0,
  refused TEXT    NOT NULL DEFAULT ''
) STRICT;

-- Lines that could not be understood.
CREATE TABLE aside (
  id   INTEGER PRIMARY KEY AUTOINCREMENT,
  at   INTEGER NOT NULL,
  why  TEXT    NOT NULL,
  line BLOB    NOT NULL
) STRICT;
