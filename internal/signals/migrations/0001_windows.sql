-- +goose Up
-- What one lane did in one minute. While the minute runs its row is written again every
-- second, so a crash loses the last second at most.
CREATE TABLE windows (
  endpoint TEXT NOT NULL,
  minute   INTEGER NOT NULL,
  split    INTEGER NOT NULL,
  lane     TEXT NOT NULL,
  version  TEXT NOT NULL,
  -- These two repeat what the summary says, so that long spans can be counted quickly.
  requests INTEGER NOT NULL,
  failed   INTEGER NOT NULL,
  summary  TEXT NOT NULL CHECK (json_valid(summary)),
  PRIMARY KEY (endpoint, minute, split, lane, version)
) STRICT, WITHOUT ROWID;

-- The bins on which an endpoint counts a column. They never change once chosen, so all
-- its windows can be merged.
CREATE TABLE bins (
  endpoint TEXT NOT NULL,
  side     TEXT NOT NULL CHECK (side IN ('input', 'output')),
  name     TEXT NOT NULL,
  source   TEXT NOT NULL,
  bins     TEXT NOT NULL CHECK (json_valid(bins)),
  PRIMARY KEY (endpoint, side, name)
) STRICT, WITHOUT ROWID;

-- Where the watching of each endpoint's trial stands.
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
