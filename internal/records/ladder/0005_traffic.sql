-- +goose Up
-- Kinds of lanes, alerts and evidence are checked by the core, so that a new kind needs no
-- new table.
CREATE TABLE lanes_new (
  endpoint_id INTEGER NOT NULL,
  split       INTEGER NOT NULL,
  position    INTEGER NOT NULL,
  kind        TEXT NOT NULL CHECK (kind <> ''),
  version_id  INTEGER NOT NULL REFERENCES versions (id),
  share       INTEGER NOT NULL CHECK (share BETWEEN 0 AND 10000),
  PRIMARY KEY (endpoint_id, split, position),
  FOREIGN KEY (endpoint_id, split) REFERENCES splits (endpoint_id, number)
) STRICT, WITHOUT ROWID;
INSERT INTO lanes_new (endpoint_id, split, position, kind, version_id, share) SELECT endpoint_id, split, position, kind, version_id, share FROM lanes;
DROP TABLE lanes;
ALTER TABLE lanes_new RENAME TO lanes;
CREATE UNIQUE INDEX one_main_lane ON lanes (endpoint_id, split) WHERE kind = 'main';
CREATE UNIQUE INDEX one_lane_a_version ON lanes (endpoint_id, split, version_id);
-- +goose StatementBegin
CREATE TRIGGER lanes_are_immutable BEFORE UPDATE ON lanes
BEGIN SELECT RAISE(ABORT, 'a split is immutable'); END;
-- +goose StatementEnd

-- An alert without an endpoint is about the service itself.
CREATE TABLE alerts_new (
  number      INTEGER PRIMARY KEY CHECK (number > 0),
  kind        TEXT NOT NULL CHECK (kind <> ''),
  endpoint    TEXT NOT NULL,
  subject     TEXT NOT NULL,
  signal      TEXT NOT NULL,
  sentence    TEXT NOT NULL,
  state       TEXT NOT NULL CHECK (state IN ('open', 'acknowledged', 'resolved')),
  raised_at   INTEGER NOT NULL,
  handled_by  TEXT NOT NULL DEFAULT '',
  handled_at  INTEGER,
  note        TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO alerts_new (number, kind, endpoint, subject, signal, sentence, state, raised_at, handled_by, handled_at, note)
  SELECT number, kind, endpoint, subject, signal, sentence, state, raised_at, handled_by, handled_at, note FROM alerts;
DROP TABLE alerts;
ALTER TABLE alerts_new RENAME TO alerts;
CREATE INDEX alerts_by_state ON alerts (state, number);

CREATE TABLE evidence_new (
  id         INTEGER PRIMARY KEY,
  version_id INTEGER NOT NULL REFERENCES versions (id),
  kind       TEXT NOT NULL CHECK (kind <> ''),
  name       TEXT NOT NULL CHECK (name <> ''),
  digest     TEXT NOT NULL CHECK (length(digest) = 64),
  size       INTEGER NOT NULL CHECK (size >= 0),
  media      TEXT NOT NULL,
  verdict    TEXT NOT NULL CHECK (verdict IN ('passed', 'failed', 'none')),
  findings   TEXT NOT NULL CHECK (json_valid(findings)),
  added_by   TEXT NOT NULL,
  added_at   INTEGER NOT NULL
) STRICT;
INSERT INTO evidence_new (id, version_id, kind, name, digest, size, media, verdict, findings, added_by, added_at)
  SELECT id, version_id, kind, name, digest, size, media, verdict, findings, added_by, added_at FROM evidence;
DROP TABLE evidence;
ALTER TABLE evidence_new RENAME TO evidence;
CREATE INDEX evidence_of ON evidence (version_id, kind, id);
CREATE INDEX evidence_by_digest ON evidence (digest);
-- +goose StatementBegin
CREATE TRIGGER evidence_is_immutable BEFORE UPDATE ON evidence
BEGIN SELECT RAISE(ABORT, 'evidence is immutable'); END;
-- +goose StatementEnd

-- Whether asking a model server twice does no harm.
ALTER TABLE endpoints ADD COLUMN repeatable INTEGER NOT NULL DEFAULT 0 CHECK (repeatable IN (0, 1));
