-- +goose Up
-- What people say about the watching of an endpoint.
ALTER TABLE endpoints ADD COLUMN watches TEXT NOT NULL CHECK (json_valid(watches)) DEFAULT '{}';

-- Alerts about what is muted are not raised until a time.
CREATE TABLE mutes (
  endpoint_id INTEGER NOT NULL REFERENCES endpoints (id),
  subject     TEXT    NOT NULL CHECK (subject <> ''),
  muted_by    TEXT    NOT NULL,
  muted_at    INTEGER NOT NULL,
  until       INTEGER NOT NULL CHECK (until > muted_at),
  reason      TEXT    NOT NULL CHECK (reason <> ''),
  PRIMARY KEY (endpoint_id, subject)
) STRICT, WITHOUT ROWID;
