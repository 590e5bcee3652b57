-- +goose Up
-- Where the watches of each endpoint stand.
CREATE TABLE watches (
  endpoint TEXT PRIMARY KEY,
  state    TEXT NOT NULL CHECK (json_valid(state))
) STRICT, WITHOUT ROWID;
