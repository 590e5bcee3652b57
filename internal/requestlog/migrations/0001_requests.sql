-- +goose Up
-- The requests of one endpoint that ended on one day, in the order in which they did.
CREATE TABLE requests (
  n             INTEGER PRIMARY KEY,
  id            BLOB NOT NULL UNIQUE,
  -- Milliseconds since 1970; it never runs back.
  ended         INTEGER NOT NULL,
  asked         TEXT NOT NULL,
  split         INTEGER NOT NULL,
  lane          TEXT NOT NULL,
  version       TEXT NOT NULL,
  instead       TEXT NOT NULL,
  key           TEXT NOT NULL,
  outcome       TEXT NOT NULL,
  status        INTEGER NOT NULL,
  reason        TEXT NOT NULL,
  total         INTEGER NOT NULL,
  backend       INTEGER NOT NULL,
  request_bytes INTEGER NOT NULL,
  request_note  TEXT NOT NULL,
  answer_bytes  INTEGER NOT NULL,
  answer_note   TEXT NOT NULL,
  chance        REAL NOT NULL
) STRICT;
CREATE INDEX requests_by_time ON requests (ended);
-- What people look for first is rare.
CREATE INDEX requests_in_trouble ON requests (n) WHERE outcome <> 'answered' OR instead <> '';

-- What is kept of their bodies, apart, so that looking through requests does not read them.
CREATE TABLE bodies (
  n       INTEGER PRIMARY KEY REFERENCES requests (n),
  request TEXT,
  answer  TEXT
) STRICT;
