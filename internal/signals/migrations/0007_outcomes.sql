-- +goose Up
-- The truth of single predictions, which came later.
CREATE TABLE outcomes (
  request   BLOB    NOT NULL CHECK (length(request) = 16),
  row       INTEGER NOT NULL CHECK (row >= 0),
  output    TEXT    NOT NULL,
  endpoint  TEXT    NOT NULL,
  version   TEXT    NOT NULL,
  lane      TEXT    NOT NULL,
  -- Milliseconds since 1970: when it was predicted, and when the truth was told.
  at        INTEGER NOT NULL,
  arrived   INTEGER NOT NULL,
  -- Two numbers, or two classes.
  predicted ANY     NOT NULL,
  truth     ANY     NOT NULL,
  CHECK (typeof(predicted) = typeof(truth)),
  PRIMARY KEY (request, row, output)
) STRICT, WITHOUT ROWID;
CREATE INDEX outcomes_by_time ON outcomes (endpoint, at);

-- What is kept of them by the hour of the prediction.
CREATE TABLE outcome_hours (
  endpoint TEXT    NOT NULL,
  version  TEXT    NOT NULL,
  lane     TEXT    NOT NULL,
  output   TEXT    NOT NULL,
  at       INTEGER NOT NULL,
  sums     TEXT    NOT NULL CHECK (json_valid(sums)),
  PRIMARY KEY (endpoint, at, version, lane, output)
) STRICT, WITHOUT ROWID;
