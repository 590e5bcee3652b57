-- +goose Up
-- A project's ladder, revision by revision. Revision 0 is the default one and not here.
CREATE TABLE ladders (
  project TEXT NOT NULL REFERENCES projects (name),
  number  INTEGER NOT NULL CHECK (number > 0),
  ladder  TEXT NOT NULL CHECK (json_valid(ladder)),
  author  TEXT NOT NULL,
  reason  TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  PRIMARY KEY (project, number)
) STRICT, WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER ladders_are_immutable BEFORE UPDATE ON ladders
BEGIN SELECT RAISE(ABORT, 'a revision of a ladder is immutable'); END;
-- +goose StatementEnd

CREATE TABLE promotions_now (
  number       INTEGER PRIMARY KEY CHECK (number > 0),
  version_id   INTEGER NOT NULL REFERENCES versions (id),
  from_rung    TEXT NOT NULL,
  to_rung      TEXT NOT NULL,
  incumbent_id INTEGER REFERENCES versions (id),
  asked_by     TEXT NOT NULL,
  note         TEXT NOT NULL,
  state        TEXT NOT NULL CHECK (state IN ('open', 'to_review', 'carried_out', 'refused', 'withdrawn', 'expired')),
  emergency    INTEGER NOT NULL DEFAULT 0 CHECK (emergency IN (0, 1)),
  ladder       INTEGER NOT NULL DEFAULT 0,
  opened_at    INTEGER NOT NULL,
  reminded_at  INTEGER,
  closed_at    INTEGER,
  findings     TEXT CHECK (findings IS NULL OR json_valid(findings)),
  CHECK ((state IN ('open', 'to_review')) = (closed_at IS NULL)),
  CHECK (state <> 'to_review' OR emergency = 1)
) STRICT;
INSERT INTO promotions_now (number, version_id, from_rung, to_rung, incumbent_id, asked_by, note, state, opened_at, closed_at, findings)
  SELECT number, version_id, from_rung, to_rung, incumbent_id, asked_by, note, state, opened_at, closed_at, findings FROM promotions;

-- Every answer stays; of each person the last one counts.
CREATE TABLE answers (
  id               INTEGER PRIMARY KEY,
  promotion        INTEGER NOT NULL REFERENCES promotions_now (number),
  by               TEXT NOT NULL,
  answer           TEXT NOT NULL CHECK (answer IN ('yes', 'no', 'later', 'hand_over')),
  note             TEXT NOT NULL,
  at               INTEGER NOT NULL,
  roles            TEXT NOT NULL CHECK (json_valid(roles)),
  until            INTEGER,
  handed_to        TEXT NOT NULL,
  candidate_digest TEXT NOT NULL,
  incumbent        TEXT NOT NULL,
  void             TEXT NOT NULL DEFAULT '',
  signed_with      TEXT NOT NULL,
  envelope         TEXT NOT NULL CHECK (json_valid(envelope)),
  CHECK ((answer = 'later') = (until IS NOT NULL)),
  CHECK ((answer = 'hand_over') = (handed_to <> ''))
) STRICT;
CREATE INDEX answers_of ON answers (promotion, by, id);
INSERT INTO answers (promotion, by, answer, note, at, roles, handed_to, candidate_digest, incumbent, signed_with, envelope)
  SELECT promotion, by, answer, note, at, '[]', '', candidate_digest, incumbent, '', '{}' FROM sign_offs ORDER BY at;
DROP TABLE sign_offs;
DROP TABLE promotions;
ALTER TABLE promotions_now RENAME TO promotions;
CREATE UNIQUE INDEX one_open_promotion ON promotions (version_id, to_rung) WHERE state IN ('open', 'to_review');
CREATE INDEX promotions_by_state ON promotions (state, number);
CREATE INDEX promotions_of ON promotions (version_id);

-- The one who asked is never the one who signs.
-- +goose StatementBegin
CREATE TRIGGER nobody_signs_their_own
BEFORE INSERT ON answers
WHEN NEW.by = (SELECT asked_by FROM promotions WHERE number = NEW.promotion)
BEGIN SELECT RAISE(ABORT, 'the one who asked cannot sign'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER answers_are_immutable
BEFORE UPDATE OF promotion, by, answer, note, at, roles, until, handed_to, candidate_digest, incumbent, signed_with, envelope ON answers
BEGIN SELECT RAISE(ABORT, 'an answer is immutable'); END;
-- +goose StatementEnd

CREATE TABLE ticks (
  promotion        INTEGER NOT NULL REFERENCES promotions (number),
  rung             TEXT NOT NULL CHECK (rung <> ''),
  item             TEXT NOT NULL CHECK (item <> ''),
  note             TEXT NOT NULL,
  link             TEXT NOT NULL,
  by               TEXT NOT NULL,
  at               INTEGER NOT NULL,
  candidate_digest TEXT NOT NULL,
  incumbent        TEXT NOT NULL,
  PRIMARY KEY (promotion, rung, item),
  CHECK (note <> '' OR link <> '')
) STRICT, WITHOUT ROWID;

CREATE TABLE evidence (
  id         INTEGER PRIMARY KEY,
  version_id INTEGER NOT NULL REFERENCES versions (id),
  kind       TEXT NOT NULL CHECK (kind IN ('tests', 'evaluation', 'load', 'shadow', 'document', 'picture')),
  name       TEXT NOT NULL CHECK (name <> ''),
  digest     TEXT NOT NULL CHECK (length(digest) = 64),
  size       INTEGER NOT NULL CHECK (size >= 0),
  media      TEXT NOT NULL,
  verdict    TEXT NOT NULL CHECK (verdict IN ('passed', 'failed', 'none')),
  findings   TEXT NOT NULL CHECK (json_valid(findings)),
  added_by   TEXT NOT NULL,
  added_at   INTEGER NOT NULL
) STRICT;
CREATE INDEX evidence_of ON evidence (version_id, kind, id);
CREATE INDEX evidence_by_digest ON evidence (digest);
-- +goose StatementBegin
CREATE TRIGGER evidence_is_immutable BEFORE UPDATE ON evidence
BEGIN SELECT RAISE(ABORT, 'evidence is immutable'); END;
-- +goose StatementEnd

-- The promotion by which a version came to the rung it stands on; NULL when it came there
-- otherwise.
ALTER TABLE versions ADD COLUMN rung_by INTEGER REFERENCES promotions (number);

-- Keys with which people sign themselves. The private halves are not here.
CREATE TABLE signing_keys (
  fingerprint TEXT PRIMARY KEY CHECK (fingerprint <> ''),
  person_id   INTEGER NOT NULL REFERENCES people (id),
  title       TEXT NOT NULL,
  public      BLOB NOT NULL CHECK (length(public) = 32),
  added_at    INTEGER NOT NULL,
  ended_at    INTEGER
) STRICT, WITHOUT ROWID;
CREATE INDEX signing_keys_of ON signing_keys (person_id);
