-- +goose Up
-- What is done again and again.
CREATE TABLE schedules (
  name    TEXT NOT NULL PRIMARY KEY CHECK (name <> ''),
  project TEXT NOT NULL,
  body    TEXT NOT NULL CHECK (json_valid(body))
) STRICT;
