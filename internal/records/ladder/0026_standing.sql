-- +goose Up
-- What new versions of a model are evaluated on; the number goes on where it is taken away and set again.
CREATE TABLE standing (
  model   TEXT NOT NULL PRIMARY KEY CHECK (model <> ''),
  project TEXT NOT NULL,
  number  INTEGER NOT NULL CHECK (number > 0),
  body    TEXT CHECK (body IS NULL OR json_valid(body))
) STRICT;
