-- +goose Up
-- What each caller asked of an endpoint, by the name that they give or that their key has. Minutes (level 0), hours (1)
-- and days (2) are added to at the same time.
CREATE TABLE calls (
  endpoint TEXT    NOT NULL,
  level    INTEGER NOT NULL CHECK (level BETWEEN 0 AND 2),
  at       INTEGER NOT NULL,
  name     TEXT    NOT NULL CHECK (name <> ''),
  requests INTEGER NOT NULL,
  failed   INTEGER NOT NULL,
  wrong    INTEGER NOT NULL,
  PRIMARY KEY (endpoint, level, at, name)
) STRICT, WITHOUT ROWID;
CREATE INDEX calls_by_age ON calls (level, at);
