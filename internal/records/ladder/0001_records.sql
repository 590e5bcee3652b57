-- +goose Up
CREATE TABLE people (
  id       INTEGER PRIMARY KEY,
  name     TEXT NOT NULL UNIQUE CHECK (name <> ''),
  role     TEXT NOT NULL CHECK (role IN ('owner', 'member')),
  added_by TEXT NOT NULL,
  added_at INTEGER NOT NULL
) STRICT;

CREATE TABLE tokens (
  digest    BLOB PRIMARY KEY CHECK (length(digest) = 32),
  person_id INTEGER NOT NULL REFERENCES people (id),
  made_at   INTEGER NOT NULL
) STRICT;

CREATE TABLE sessions (
  digest     BLOB PRIMARY KEY CHECK (length(digest) = 32),
  person_id  INTEGER NOT NULL REFERENCES people (id),
  expires_at INTEGER NOT NULL
) STRICT;

CREATE TABLE models (
  id          INTEGER PRIMARY KEY,
  name        TEXT NOT NULL UNIQUE CHECK (name <> ''),
  task        TEXT NOT NULL CHECK (task IN ('regression', 'classification', 'other')),
  description TEXT NOT NULL,
  created_by  TEXT NOT NULL,
  created_at  INTEGER NOT NULL
) STRICT;

CREATE TABLE versions (
  id         INTEGER PRIMARY KEY,
  model_id   INTEGER NOT NULL REFERENCES models (id),
  number     INTEGER NOT NULL CHECK (number > 0),
  digest     TEXT NOT NULL CHECK (length(digest) = 64),
  note       TEXT NOT NULL,
  signature  TEXT CHECK (signature IS NULL OR json_valid(signature)),
  profile    TEXT CHECK (profile IS NULL OR json_valid(profile)),
  code       TEXT CHECK (code IS NULL OR json_valid(code)),
  rung       TEXT NOT NULL CHECK (rung <> ''),
  rung_since INTEGER NOT NULL,
  created_by TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  UNIQUE (model_id, number),
  UNIQUE (model_id, digest)
) STRICT;
CREATE INDEX versions_on_rung ON versions (model_id, rung, rung_since);

-- A version is immutable; only the rung it stands on moves.
-- +goose StatementBegin
CREATE TRIGGER versions_are_immutable
BEFORE UPDATE OF model_id, number, digest, note, signature, profile, code, created_by, created_at ON versions
BEGIN SELECT RAISE(ABORT, 'a version is immutable'); END;
-- +goose StatementEnd

CREATE TABLE artifacts (
  version_id INTEGER NOT NULL REFERENCES versions (id),
  name       TEXT NOT NULL CHECK (name <> ''),
  digest     TEXT NOT NULL CHECK (length(digest) = 64),
  size       INTEGER NOT NULL CHECK (size >= 0),
  PRIMARY KEY (version_id, name)
) STRICT, WITHOUT ROWID;

CREATE TABLE metrics (
  version_id INTEGER NOT NULL REFERENCES versions (id),
  name       TEXT NOT NULL CHECK (name <> ''),
  value      REAL NOT NULL,
  PRIMARY KEY (version_id, name)
) STRICT, WITHOUT ROWID;

CREATE TABLE params (
  version_id INTEGER NOT NULL REFERENCES versions (id),
  name       TEXT NOT NULL CHECK (name <> ''),
  value      TEXT NOT NULL,
  PRIMARY KEY (version_id, name)
) STRICT, WITHOUT ROWID;

CREATE TABLE promotions (
  number       INTEGER PRIMARY KEY CHECK (number > 0),
  version_id   INTEGER NOT NULL REFERENCES versions (id),
  from_rung    TEXT NOT NULL,
  to_rung      TEXT NOT NULL,
  incumbent_id INTEGER REFERENCES versions (id),
  asked_by     TEXT NOT NULL,
  note         TEXT NOT NULL,
  state        TEXT NOT NULL CHECK (state IN ('open', 'carried_out', 'refused', 'withdrawn')),
  opened_at    INTEGER NOT NULL,
  closed_at    INTEGER,
  findings     TEXT CHECK (findings IS NULL OR json_valid(findings)),
  CHECK ((state = 'open') = (closed_at IS NULL))
) STRICT;
CREATE UNIQUE INDEX one_open_promotion ON promotions (version_id, to_rung) WHERE state = 'open';
CREATE INDEX promotions_by_state ON promotions (state, number);

CREATE TABLE sign_offs (
  promotion        INTEGER NOT NULL REFERENCES promotions (number),
  by               TEXT NOT NULL,
  answer           TEXT NOT NULL CHECK (answer IN ('yes', 'no')),
  note             TEXT NOT NULL,
  at               INTEGER NOT NULL,
  candidate_digest TEXT NOT NULL,
  incumbent        TEXT NOT NULL,
  PRIMARY KEY (promotion, by)
) STRICT, WITHOUT ROWID;

-- The one who asked is never the one who signs.
-- +goose StatementBegin
CREATE TRIGGER nobody_signs_their_own
BEFORE INSERT ON sign_offs
WHEN NEW.by = (SELECT asked_by FROM promotions WHERE number = NEW.promotion)
BEGIN SELECT RAISE(ABORT, 'the one who asked cannot sign'); END;
-- +goose StatementEnd

CREATE TABLE environments (
  id          INTEGER PRIMARY KEY,
  name        TEXT NOT NULL UNIQUE CHECK (name <> ''),
  description TEXT NOT NULL,
  added_by    TEXT NOT NULL,
  added_at    INTEGER NOT NULL
) STRICT;

CREATE TABLE placements (
  id             INTEGER PRIMARY KEY,
  version_id     INTEGER NOT NULL REFERENCES versions (id),
  environment_id INTEGER NOT NULL REFERENCES environments (id),
  served_as      TEXT NOT NULL CHECK (served_as <> ''),
  placed_by      TEXT NOT NULL,
  placed_at      INTEGER NOT NULL,
  removed_at     INTEGER
) STRICT;
CREATE UNIQUE INDEX one_placement ON placements (version_id, environment_id) WHERE removed_at IS NULL;

CREATE TABLE addresses (
  placement_id INTEGER NOT NULL REFERENCES placements (id),
  position     INTEGER NOT NULL,
  url          TEXT NOT NULL CHECK (url <> ''),
  healthy      INTEGER NOT NULL CHECK (healthy IN (0, 1)),
  reason       TEXT NOT NULL,
  since        INTEGER NOT NULL,
  PRIMARY KEY (placement_id, position),
  CHECK (healthy = 0 OR reason = '')
) STRICT, WITHOUT ROWID;

CREATE TABLE endpoints (
  id             INTEGER PRIMARY KEY,
  name           TEXT NOT NULL UNIQUE CHECK (name <> ''),
  model_id       INTEGER NOT NULL REFERENCES models (id),
  environment_id INTEGER NOT NULL REFERENCES environments (id),
  rung           TEXT NOT NULL,
  description    TEXT NOT NULL,
  plan           TEXT NOT NULL CHECK (json_valid(plan)),
  created_by     TEXT NOT NULL,
  created_at     INTEGER NOT NULL
) STRICT;

CREATE TABLE splits (
  endpoint_id INTEGER NOT NULL REFERENCES endpoints (id),
  number      INTEGER NOT NULL CHECK (number > 0),
  reason      TEXT NOT NULL,
  author      TEXT NOT NULL,
  made_at     INTEGER NOT NULL,
  returns_to  INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (endpoint_id, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE lanes (
  endpoint_id INTEGER NOT NULL,
  split       INTEGER NOT NULL,
  position    INTEGER NOT NULL,
  kind        TEXT NOT NULL CHECK (kind IN ('main', 'trial')),
  version_id  INTEGER NOT NULL REFERENCES versions (id),
  share       INTEGER NOT NULL CHECK (share BETWEEN 0 AND 10000),
  PRIMARY KEY (endpoint_id, split, position),
  FOREIGN KEY (endpoint_id, split) REFERENCES splits (endpoint_id, number)
) STRICT, WITHOUT ROWID;
CREATE UNIQUE INDEX one_main_lane ON lanes (endpoint_id, split) WHERE kind = 'main';
CREATE UNIQUE INDEX one_lane_a_version ON lanes (endpoint_id, split, version_id);

-- A split is immutable: a change is a new revision.
-- +goose StatementBegin
CREATE TRIGGER splits_are_immutable BEFORE UPDATE ON splits
BEGIN SELECT RAISE(ABORT, 'a split is immutable'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER lanes_are_immutable BEFORE UPDATE ON lanes
BEGIN SELECT RAISE(ABORT, 'a split is immutable'); END;
-- +goose StatementEnd

CREATE TABLE alerts (
  number      INTEGER PRIMARY KEY CHECK (number > 0),
  kind        TEXT NOT NULL CHECK (kind IN ('rolled_back', 'placement_unhealthy')),
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
CREATE INDEX alerts_by_state ON alerts (state, number);

-- The record: one line for every change, which is also the event that is published.
CREATE TABLE audit (
  seq        INTEGER PRIMARY KEY AUTOINCREMENT,
  at         INTEGER NOT NULL,
  actor      TEXT NOT NULL,
  kind       TEXT NOT NULL,
  subject    TEXT NOT NULL,
  sentence   TEXT NOT NULL,
  reason     TEXT NOT NULL,
  before     TEXT CHECK (before IS NULL OR json_valid(before)),
  after      TEXT CHECK (after IS NULL OR json_valid(after)),
  request_id TEXT NOT NULL
) STRICT;
CREATE INDEX audit_by_subject ON audit (subject, seq);

-- +goose StatementBegin
CREATE TRIGGER audit_lines_stay BEFORE UPDATE ON audit
BEGIN SELECT RAISE(ABORT, 'the record is append-only'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER audit_lines_remain BEFORE DELETE ON audit
BEGIN SELECT RAISE(ABORT, 'the record is append-only'); END;
-- +goose StatementEnd

-- Answers to calls that carried an Idempotency-Key, so that a repeated call changes nothing.
CREATE TABLE repeats (
  person         TEXT NOT NULL,
  key            TEXT NOT NULL,
  request_digest BLOB NOT NULL,
  answer         TEXT NOT NULL CHECK (json_valid(answer)),
  at             INTEGER NOT NULL,
  PRIMARY KEY (person, key)
) STRICT, WITHOUT ROWID;
