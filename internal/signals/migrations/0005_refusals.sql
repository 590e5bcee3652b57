-- +goose Up
-- How many requests the gateway turned away, by reason: the code of the error that the caller got. An endpoint without
-- a name stands for requests that found none. Minutes (level 0), hours (1) and days (2) are added to at the same time.
CREATE TABLE refusals (
  endpoint TEXT NOT NULL,
  level    INTEGER NOT NULL CHECK (level BETWEEN 0 AND 2),
  at       INTEGER NOT NULL,
  reason   TEXT NOT NULL,
  n        INTEGER NOT NULL,
  PRIMARY KEY (endpoint, level, at, reason)
) STRICT, WITHOUT ROWID;
CREATE INDEX refusals_by_age ON refusals (level, at);
