-- +goose Up
-- Agents that report what versions do elsewhere: up to which of its batches each was taken.
CREATE TABLE agents (
  endpoint TEXT    NOT NULL,
  id       TEXT    NOT NULL CHECK (length(id) = 36),
  name     TEXT    NOT NULL,
  number   INTEGER NOT NULL CHECK (number >= 0),
  -- Milliseconds since 1970: when it was heard last.
  heard_at INTEGER NOT NULL,
  -- Seconds since 1970: the last minute that it told of, 0 for none.
  until    INTEGER NOT NULL,
  requests INTEGER NOT NULL,
  -- What waits at it, in bytes, and lines that it put aside.
  waiting  INTEGER NOT NULL,
  aside    INTEGER NOT NULL,
  PRIMARY KEY (endpoint, id)
) STRICT;
