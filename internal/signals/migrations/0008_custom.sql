-- +goose Up
-- What was reported of signals of a team's own, one by one: of a request, or of a version at a time.
CREATE TABLE custom (
  -- In the order in which they were kept, and never used again.
  seq      INTEGER PRIMARY KEY,
  endpoint TEXT    NOT NULL,
  signal   TEXT    NOT NULL,
  -- The request that it is of, empty for none, and its name among those of the same request.
  request  BLOB    NOT NULL CHECK (length(request) IN (0, 16)),
  id       TEXT    NOT NULL,
  version  TEXT    NOT NULL,
  lane     TEXT    NOT NULL,
  split    INTEGER NOT NULL,
  -- Milliseconds since 1970: when it was answered, and when the value was reported.
  at       INTEGER NOT NULL,
  arrived  INTEGER NOT NULL,
  value    REAL    NOT NULL,
  CHECK (length(request) = 16 OR id <> ''),
  UNIQUE (endpoint, signal, request, id)
) STRICT;
CREATE INDEX custom_by_time ON custom (endpoint, at);
CREATE INDEX custom_by_number ON custom (endpoint, signal, seq);
CREATE INDEX custom_by_age ON custom (at);

-- What is kept of them by the hour of the answer.
CREATE TABLE custom_hours (
  endpoint TEXT    NOT NULL,
  signal   TEXT    NOT NULL,
  version  TEXT    NOT NULL,
  lane     TEXT    NOT NULL,
  at       INTEGER NOT NULL,
  numbers  BLOB    NOT NULL,
  PRIMARY KEY (endpoint, signal, at, version, lane)
) STRICT, WITHOUT ROWID;

-- Truths are numbered in the order in which they came, too.
ALTER TABLE outcomes ADD COLUMN seq INTEGER NOT NULL DEFAULT 0;
CREATE INDEX outcomes_by_number ON outcomes (endpoint, seq);
