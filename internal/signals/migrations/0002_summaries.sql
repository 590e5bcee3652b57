-- +goose Up
-- Windows were JSON; what is kept of them from before is not worth reading.
DROP TABLE windows;
DROP TABLE bins;
DROP TABLE watching;
DROP TABLE readings;

-- Whose traffic a summary is of.
CREATE TABLE lanes (
  id       INTEGER PRIMARY KEY,
  endpoint TEXT NOT NULL,
  split    INTEGER NOT NULL,
  lane     TEXT NOT NULL,
  version  TEXT NOT NULL,
  UNIQUE (endpoint, version, split, lane)
) STRICT;

-- What one lane did in one minute (level 0), hour (1) or day (2), which begins at so many
-- seconds since 1970. While the minute runs its row is written again every second, so a
-- crash loses the last second at most.
CREATE TABLE traffic (
  level         INTEGER NOT NULL CHECK (level BETWEEN 0 AND 2),
  at            INTEGER NOT NULL,
  lane          INTEGER NOT NULL REFERENCES lanes (id),
  requests      INTEGER NOT NULL,
  caller_errors INTEGER NOT NULL,
  server_errors INTEGER NOT NULL,
  timed_out     INTEGER NOT NULL,
  not_reached   INTEGER NOT NULL,
  malformed     INTEGER NOT NULL,
  abandoned     INTEGER NOT NULL,
  unavailable   INTEGER NOT NULL,
  fallback      INTEGER NOT NULL,
  drawn         INTEGER NOT NULL,
  bodies        INTEGER NOT NULL,
  rows          INTEGER NOT NULL,
  unread        INTEGER NOT NULL,
  -- The probability with which a body was read, on average over the requests.
  probability   REAL NOT NULL,
  PRIMARY KEY (lane, level, at)
) STRICT, WITHOUT ROWID;
CREATE INDEX traffic_by_age ON traffic (level, at);

-- The bins on which an endpoint counts a column. They never change once chosen, so all
-- its summaries merge. Numbers below 16 are those of summaries that are no column.
CREATE TABLE columns (
  id       INTEGER PRIMARY KEY CHECK (id >= 16),
  endpoint TEXT NOT NULL,
  side     TEXT NOT NULL CHECK (side IN ('input', 'output')),
  name     TEXT NOT NULL,
  source   TEXT NOT NULL,
  bins     TEXT NOT NULL CHECK (json_valid(bins)),
  UNIQUE (endpoint, side, name)
) STRICT;

-- The summaries that belong to a row of traffic: 1 latency, 2 the model server's part of
-- it, 3 distinct inputs, or the number of a column.
CREATE TABLE summaries (
  lane    INTEGER NOT NULL REFERENCES lanes (id),
  level   INTEGER NOT NULL,
  at      INTEGER NOT NULL,
  what    INTEGER NOT NULL,
  summary BLOB NOT NULL,
  PRIMARY KEY (lane, level, at, what)
) STRICT, WITHOUT ROWID;
CREATE INDEX summaries_by_age ON summaries (level, at);

-- Up to when minutes have been rolled up to hours, and hours to days.
CREATE TABLE rolled (
  level INTEGER PRIMARY KEY,
  until INTEGER NOT NULL
) STRICT;

-- What is known of a trial: all that both its versions did since it began.
CREATE TABLE evidence (
  endpoint  TEXT NOT NULL,
  incumbent TEXT NOT NULL,
  candidate TEXT NOT NULL,
  begun     INTEGER NOT NULL,
  version   TEXT NOT NULL,
  what      INTEGER NOT NULL,
  summary   BLOB NOT NULL,
  PRIMARY KEY (endpoint, candidate, incumbent, begun, version, what)
) STRICT, WITHOUT ROWID;

-- Where the watching of each endpoint's trials stands.
CREATE TABLE watching (
  endpoint TEXT PRIMARY KEY,
  state    TEXT NOT NULL CHECK (json_valid(state))
) STRICT, WITHOUT ROWID;

-- What the guards said, second by second, while a trial ran.
CREATE TABLE readings (
  endpoint TEXT NOT NULL,
  at       INTEGER NOT NULL,
  split    INTEGER NOT NULL,
  version  TEXT NOT NULL,
  signal   TEXT NOT NULL,
  progress REAL NOT NULL,
  PRIMARY KEY (endpoint, at, version, signal)
) STRICT, WITHOUT ROWID;
CREATE INDEX readings_by_age ON readings (at);
