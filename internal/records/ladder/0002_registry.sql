-- +goose Up
CREATE TABLE projects (
  name        TEXT PRIMARY KEY CHECK (name <> ''),
  description TEXT NOT NULL,
  added_by    TEXT NOT NULL,
  added_at    INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO projects (name, description, added_by, added_at) VALUES ('default', 'models that were registered without a project', 'inner-ladder', 0);

ALTER TABLE models ADD COLUMN project TEXT NOT NULL DEFAULT 'default';
ALTER TABLE models ADD COLUMN owner TEXT NOT NULL DEFAULT '';
ALTER TABLE models ADD COLUMN vetted_by TEXT;
ALTER TABLE models ADD COLUMN vetted_at INTEGER;
ALTER TABLE models ADD COLUMN vetted_why TEXT;
UPDATE models SET owner = created_by;
CREATE INDEX models_in_project ON models (project);

-- What is large stands apart, so that lists of versions read few pages.
CREATE TABLE version_texts (
  version_id     INTEGER PRIMARY KEY REFERENCES versions (id),
  signature      TEXT CHECK (signature IS NULL OR json_valid(signature)),
  profile        TEXT CHECK (profile IS NULL OR json_valid(profile)),
  card           TEXT CHECK (card IS NULL OR json_valid(card)),
  importance     TEXT CHECK (importance IS NULL OR json_valid(importance)),
  sample_request TEXT CHECK (sample_request IS NULL OR json_valid(sample_request))
) STRICT;
INSERT INTO version_texts (version_id, signature, profile) SELECT id, signature, profile FROM versions;

DROP TRIGGER versions_are_immutable;
ALTER TABLE versions DROP COLUMN signature;
ALTER TABLE versions DROP COLUMN profile;
ALTER TABLE versions ADD COLUMN licence TEXT NOT NULL DEFAULT '';
ALTER TABLE versions ADD COLUMN profile_rows INTEGER NOT NULL DEFAULT 0;
-- What a deleted version was stays known; what it held is gone.
ALTER TABLE versions ADD COLUMN deleted_at INTEGER;
ALTER TABLE versions ADD COLUMN deleted_by TEXT;
ALTER TABLE versions ADD COLUMN deleted_why TEXT;
DROP INDEX versions_on_rung;
CREATE INDEX versions_standing ON versions (model_id, rung, number) WHERE deleted_at IS NULL;
CREATE INDEX versions_on_rung ON versions (rung, id) WHERE deleted_at IS NULL;
CREATE INDEX versions_by_licence ON versions (licence COLLATE NOCASE, id) WHERE licence <> '';
UPDATE version_texts SET profile = NULL WHERE profile = 'null';
UPDATE versions SET profile_rows = coalesce((SELECT json_extract(profile, '$.rows') FROM version_texts t WHERE t.version_id = versions.id), 0);

-- Of a version its rung and its note may change. A deleted one keeps its number; its
-- digest is given free, so that the same content can be registered again.
-- +goose StatementBegin
CREATE TRIGGER versions_are_immutable
BEFORE UPDATE OF model_id, number, digest, code, licence, created_by, created_at ON versions
WHEN NEW.deleted_at IS NULL OR OLD.deleted_at IS NOT NULL OR NEW.number <> OLD.number OR NEW.model_id <> OLD.model_id
BEGIN SELECT RAISE(ABORT, 'a version is immutable'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER version_texts_are_immutable BEFORE UPDATE ON version_texts
BEGIN SELECT RAISE(ABORT, 'a version is immutable'); END;
-- +goose StatementEnd

ALTER TABLE artifacts ADD COLUMN stored INTEGER NOT NULL DEFAULT 1 CHECK (stored IN (0, 1));
ALTER TABLE artifacts ADD COLUMN address TEXT NOT NULL DEFAULT '';
ALTER TABLE artifacts ADD COLUMN format TEXT NOT NULL DEFAULT 'unknown';
CREATE INDEX artifacts_by_format ON artifacts (format, version_id);
CREATE INDEX artifacts_by_digest ON artifacts (digest, version_id);
CREATE TABLE artifact_contents (
  version_id INTEGER NOT NULL REFERENCES versions (id),
  name       TEXT NOT NULL,
  contents   TEXT NOT NULL CHECK (json_valid(contents)),
  PRIMARY KEY (version_id, name)
) STRICT;

CREATE INDEX metrics_by_value ON metrics (name, value, version_id);

CREATE TABLE dependencies (
  version_id INTEGER NOT NULL REFERENCES versions (id),
  name       TEXT NOT NULL CHECK (name <> ''),
  want       TEXT NOT NULL,
  extra      TEXT NOT NULL,
  PRIMARY KEY (version_id, name)
) STRICT, WITHOUT ROWID;

CREATE TABLE attachments (
  version_id INTEGER NOT NULL REFERENCES versions (id),
  name       TEXT NOT NULL CHECK (name <> ''),
  digest     TEXT NOT NULL CHECK (length(digest) = 64),
  size       INTEGER NOT NULL CHECK (size >= 0),
  media      TEXT NOT NULL,
  added_by   TEXT NOT NULL,
  added_at   INTEGER NOT NULL,
  PRIMARY KEY (version_id, name)
) STRICT, WITHOUT ROWID;

CREATE TABLE labels (
  model_id    INTEGER NOT NULL REFERENCES models (id),
  name        TEXT NOT NULL CHECK (name <> ''),
  version_id  INTEGER NOT NULL REFERENCES versions (id),
  environment TEXT NOT NULL DEFAULT '',
  moved_by    TEXT NOT NULL,
  moved_at    INTEGER NOT NULL,
  PRIMARY KEY (model_id, name)
) STRICT, WITHOUT ROWID;
CREATE INDEX labels_of_version ON labels (version_id);
CREATE INDEX labels_by_name ON labels (name, version_id);

-- Tags and properties of models and of versions; exactly one of the two is not 0.
CREATE TABLE tags (
  tag        TEXT NOT NULL CHECK (tag <> ''),
  model_id   INTEGER NOT NULL DEFAULT 0,
  version_id INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (tag, model_id, version_id),
  CHECK ((model_id = 0) <> (version_id = 0))
) STRICT, WITHOUT ROWID;
CREATE INDEX tags_of ON tags (version_id, model_id, tag);
CREATE TABLE properties (
  model_id   INTEGER NOT NULL DEFAULT 0,
  version_id INTEGER NOT NULL DEFAULT 0,
  name       TEXT NOT NULL CHECK (name <> ''),
  value      TEXT NOT NULL,
  PRIMARY KEY (version_id, model_id, name),
  CHECK ((model_id = 0) <> (version_id = 0))
) STRICT, WITHOUT ROWID;

CREATE TABLE data_sets (
  id          INTEGER PRIMARY KEY,
  name        TEXT NOT NULL CHECK (name <> ''),
  number      INTEGER NOT NULL CHECK (number > 0),
  address     TEXT NOT NULL,
  digest      TEXT NOT NULL,
  rows        INTEGER NOT NULL,
  size        INTEGER NOT NULL,
  schema      TEXT NOT NULL CHECK (json_valid(schema)),
  description TEXT NOT NULL,
  added_by    TEXT NOT NULL,
  added_at    INTEGER NOT NULL,
  UNIQUE (name, number)
) STRICT;
-- +goose StatementBegin
CREATE TRIGGER data_sets_are_immutable BEFORE UPDATE ON data_sets
BEGIN SELECT RAISE(ABORT, 'a revision of a data set is immutable'); END;
-- +goose StatementEnd

CREATE TABLE codes (
  id         INTEGER PRIMARY KEY,
  repository TEXT NOT NULL,
  revision   TEXT NOT NULL CHECK (revision <> ''),
  UNIQUE (revision, repository)
) STRICT;

CREATE TABLE runs (
  number     INTEGER PRIMARY KEY CHECK (number > 0),
  model      TEXT NOT NULL,
  title      TEXT NOT NULL,
  state      TEXT NOT NULL CHECK (state IN ('running', 'finished', 'failed')),
  by         TEXT NOT NULL,
  machine    TEXT NOT NULL,
  started    INTEGER NOT NULL,
  ended      INTEGER,
  code       TEXT CHECK (code IS NULL OR json_valid(code)),
  note       TEXT NOT NULL DEFAULT '',
  CHECK ((state = 'running') = (ended IS NULL))
) STRICT;
CREATE INDEX runs_of_model ON runs (model, number);
CREATE TABLE run_params (
  run   INTEGER NOT NULL REFERENCES runs (number),
  name  TEXT NOT NULL CHECK (name <> ''),
  value TEXT NOT NULL,
  PRIMARY KEY (run, name)
) STRICT, WITHOUT ROWID;
CREATE TABLE run_points (
  run    INTEGER NOT NULL REFERENCES runs (number),
  metric TEXT NOT NULL CHECK (metric <> ''),
  step   INTEGER NOT NULL,
  value  REAL NOT NULL,
  at     INTEGER NOT NULL,
  PRIMARY KEY (run, metric, step)
) STRICT, WITHOUT ROWID;

-- The lineage: what was made (from) of what (to). Kinds: 1 version, 2 data set, 3 run,
-- 4 code.
CREATE TABLE links (
  from_kind INTEGER NOT NULL CHECK (from_kind BETWEEN 1 AND 4),
  from_id   INTEGER NOT NULL,
  relation  TEXT NOT NULL CHECK (relation <> ''),
  to_kind   INTEGER NOT NULL CHECK (to_kind BETWEEN 1 AND 4),
  to_id     INTEGER NOT NULL,
  PRIMARY KEY (from_kind, from_id, to_kind, to_id, relation)
) STRICT, WITHOUT ROWID;
CREATE INDEX links_back ON links (to_kind, to_id, from_kind, from_id, relation);

-- Code that was recorded before there was lineage.
INSERT INTO codes (repository, revision)
  SELECT DISTINCT coalesce(json_extract(code, '$.repository'), ''), json_extract(code, '$.commit') FROM versions WHERE json_extract(code, '$.commit') <> '';
INSERT INTO links (from_kind, from_id, relation, to_kind, to_id)
  SELECT 1, v.id, 'from-code', 4, c.id FROM versions v
  JOIN codes c ON c.revision = json_extract(v.code, '$.commit') AND c.repository = coalesce(json_extract(v.code, '$.repository'), '');

-- Full text of versions; rowid is the version's id. Positions are not kept: words are
-- looked for, not phrases.
CREATE VIRTUAL TABLE search USING fts5 (title, body, content='', contentless_delete=1, detail=none, tokenize="unicode61 remove_diacritics 2");
INSERT INTO search (rowid, title, body)
  SELECT v.id, m.name, m.description || ' ' || v.note || ' ' || v.created_by FROM versions v JOIN models m ON m.id = v.model_id;

-- What else a line of the record is about: moving a label is about both versions too.
CREATE TABLE audit_also (
  subject TEXT NOT NULL CHECK (subject <> ''),
  seq     INTEGER NOT NULL REFERENCES audit (seq),
  PRIMARY KEY (subject, seq)
) STRICT, WITHOUT ROWID;

-- A key that only this installation has, for what must be told from forgeries.
CREATE TABLE keys (
  name  TEXT PRIMARY KEY,
  value BLOB NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO keys (name, value) VALUES ('request ids', randomblob(16));
