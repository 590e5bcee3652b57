-- +goose Up
-- What a version must answer, given when it was registered or confirmed once it was placed, and
-- what the servers of a placement answered to the sample request.
CREATE TABLE known_answers (
  version_id INTEGER PRIMARY KEY REFERENCES versions (id) ON DELETE CASCADE,
  cases      TEXT NOT NULL CHECK (json_valid(cases)),
  tolerance  REAL NOT NULL CHECK (tolerance >= 0),
  origin     TEXT NOT NULL CHECK (origin <> ''),
  author     TEXT NOT NULL,
  made_at    INTEGER NOT NULL
) STRICT;
-- +goose StatementBegin
CREATE TRIGGER known_answers_are_immutable BEFORE UPDATE ON known_answers
BEGIN SELECT RAISE(ABORT, 'known answers are immutable'); END;
-- +goose StatementEnd
ALTER TABLE placements ADD COLUMN heard TEXT CHECK (heard IS NULL OR json_valid(heard));
