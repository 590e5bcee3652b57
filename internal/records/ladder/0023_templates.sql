-- +goose Up
-- Command lines that are allowed to serve versions on the service's machine.
CREATE TABLE runner_templates (
  name        TEXT    NOT NULL PRIMARY KEY CHECK (name <> ''),
  command     TEXT    NOT NULL CHECK (json_valid(command)),
  environment TEXT    NOT NULL CHECK (json_valid(environment)),
  description TEXT    NOT NULL,
  added_by    TEXT    NOT NULL,
  added_at    INTEGER NOT NULL
) STRICT;
