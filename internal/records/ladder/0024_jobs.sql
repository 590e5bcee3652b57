-- +goose Up
-- Work that takes long. What it found stands in files beside the records.
CREATE TABLE jobs (
  number  INTEGER PRIMARY KEY AUTOINCREMENT,
  project TEXT    NOT NULL,
  kind    TEXT    NOT NULL CHECK (kind <> ''),
  about   TEXT    NOT NULL,
  state   TEXT    NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'stopped', 'failed')),
  body    TEXT    NOT NULL CHECK (json_valid(body))
) STRICT;
CREATE INDEX jobs_by_state ON jobs (state);
CREATE INDEX jobs_by_about ON jobs (about, number);
