-- +goose Up
-- Moves of endpoints by plan. What trials are held to are terms; a plan is what a rollout follows. Outputs that
-- are not there have a guard of their own, which was part of the one on predictions.
ALTER TABLE endpoints RENAME COLUMN plan TO terms;
UPDATE endpoints SET terms = json_insert(terms, '$.guards[#]', json('{"signal":"missing_outputs","margin":0.05}'))
  WHERE terms LIKE '%"prediction_drift"%' AND terms NOT LIKE '%"missing_outputs"%';

CREATE TABLE plans (
  project  TEXT NOT NULL,
  name     TEXT NOT NULL CHECK (name <> ''),
  revision INTEGER NOT NULL CHECK (revision > 0),
  text     TEXT NOT NULL,
  plan     TEXT NOT NULL CHECK (json_valid(plan)),
  reason   TEXT NOT NULL,
  author   TEXT NOT NULL,
  made_at  INTEGER NOT NULL,
  PRIMARY KEY (project, name, revision)
) STRICT, WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER plans_are_immutable BEFORE UPDATE ON plans
BEGIN SELECT RAISE(ABORT, 'a revision of a plan is immutable'); END;
-- +goose StatementEnd

CREATE TABLE rollouts (
  number       INTEGER PRIMARY KEY CHECK (number > 0),
  endpoint_id  INTEGER NOT NULL REFERENCES endpoints (id),
  incumbent_id INTEGER NOT NULL REFERENCES versions (id),
  candidate_id INTEGER NOT NULL REFERENCES versions (id) CHECK (candidate_id <> incumbent_id),
  plan         TEXT NOT NULL CHECK (json_valid(plan)),
  reason       TEXT NOT NULL,
  author       TEXT NOT NULL,
  asked_at     INTEGER NOT NULL,
  starts_at    INTEGER,
  phase        TEXT NOT NULL CHECK (phase <> ''),
  state        TEXT NOT NULL CHECK (json_valid(state)),
  ended_at     INTEGER
) STRICT;
CREATE UNIQUE INDEX one_rollout_an_endpoint ON rollouts (endpoint_id) WHERE ended_at IS NULL;
CREATE INDEX rollouts_of ON rollouts (endpoint_id, number);
CREATE INDEX rollouts_of_version ON rollouts (candidate_id);
CREATE INDEX rollouts_from_version ON rollouts (incumbent_id);
-- +goose StatementBegin
CREATE TRIGGER rollouts_keep_what_they_are BEFORE UPDATE ON rollouts
WHEN OLD.endpoint_id <> NEW.endpoint_id OR OLD.incumbent_id <> NEW.incumbent_id OR OLD.candidate_id <> NEW.candidate_id
  OR OLD.plan <> NEW.plan OR OLD.ended_at IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'a rollout keeps its versions and its plan, and ends once'); END;
-- +goose StatementEnd

CREATE TABLE decisions (
  rollout  INTEGER NOT NULL REFERENCES rollouts (number),
  number   INTEGER NOT NULL CHECK (number > 0),
  made_at  INTEGER NOT NULL,
  decision TEXT NOT NULL CHECK (json_valid(decision)),
  PRIMARY KEY (rollout, number)
) STRICT, WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER decisions_are_immutable BEFORE UPDATE ON decisions
BEGIN SELECT RAISE(ABORT, 'a decision is immutable'); END;
-- +goose StatementEnd

-- Which rollout made a split, 0 for a person or a guard.
DROP TRIGGER splits_are_immutable;
ALTER TABLE splits ADD COLUMN rollout INTEGER NOT NULL DEFAULT 0 CHECK (rollout >= 0);
-- +goose StatementBegin
CREATE TRIGGER splits_are_immutable BEFORE UPDATE ON splits
BEGIN SELECT RAISE(ABORT, 'a split is immutable'); END;
-- +goose StatementEnd
