-- +goose Up
-- What the service writes about each rollback, and what people add. The report is written once.
CREATE TABLE incidents (
  number       INTEGER PRIMARY KEY CHECK (number > 0),
  endpoint_id  INTEGER NOT NULL REFERENCES endpoints (id),
  candidate_id INTEGER NOT NULL REFERENCES versions (id),
  incumbent_id INTEGER NOT NULL REFERENCES versions (id),
  rollout      TEXT NOT NULL,
  alert        TEXT NOT NULL,
  signal       TEXT NOT NULL,
  author       TEXT NOT NULL,
  why          TEXT NOT NULL,
  left_split   INTEGER NOT NULL,
  for_split    INTEGER NOT NULL,
  begun_at     INTEGER NOT NULL,
  at           INTEGER NOT NULL,
  report       TEXT CHECK (report IS NULL OR json_valid(report)),
  state        TEXT NOT NULL CHECK (state IN ('open', 'closed')),
  cause        TEXT NOT NULL DEFAULT '',
  closed_by    TEXT NOT NULL DEFAULT '',
  closed_at    INTEGER
) STRICT;
CREATE INDEX incidents_of ON incidents (endpoint_id, number);
CREATE INDEX incidents_of_version ON incidents (candidate_id);
CREATE INDEX incidents_from_version ON incidents (incumbent_id);
CREATE INDEX incidents_by_alert ON incidents (alert) WHERE alert <> '';
CREATE INDEX incidents_by_rollout ON incidents (rollout) WHERE rollout <> '';
CREATE INDEX incidents_unwritten ON incidents (number) WHERE report IS NULL;
-- +goose StatementBegin
CREATE TRIGGER incidents_are_written_once BEFORE UPDATE OF report ON incidents WHEN OLD.report IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'the report about an incident is written once'); END;
-- +goose StatementEnd
CREATE TABLE incident_notes (
  incident INTEGER NOT NULL REFERENCES incidents (number),
  number   INTEGER NOT NULL,
  made_at  INTEGER NOT NULL,
  author   TEXT NOT NULL,
  text     TEXT NOT NULL CHECK (text <> ''),
  PRIMARY KEY (incident, number)
) STRICT, WITHOUT ROWID;
CREATE TABLE follow_ups (
  incident INTEGER NOT NULL REFERENCES incidents (number),
  number   INTEGER NOT NULL,
  text     TEXT NOT NULL CHECK (text <> ''),
  who      TEXT NOT NULL,
  due      TEXT NOT NULL,
  author   TEXT NOT NULL,
  made_at  INTEGER NOT NULL,
  done_by  TEXT NOT NULL DEFAULT '',
  done_at  INTEGER,
  PRIMARY KEY (incident, number)
) STRICT, WITHOUT ROWID;
