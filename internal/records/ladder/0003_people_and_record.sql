-- +goose Up
-- People and robots. A robot has neither password nor e-mail; it works with tokens.
CREATE TABLE accounts (
  id          INTEGER PRIMARY KEY,
  name        TEXT NOT NULL UNIQUE CHECK (name <> ''),
  robot       INTEGER NOT NULL DEFAULT 0 CHECK (robot IN (0, 1)),
  email       TEXT NOT NULL DEFAULT '',
  password    TEXT CHECK (password IS NULL OR password LIKE '$argon2id$%'),
  -- Who someone is to the provider of sign-ins.
  issuer      TEXT NOT NULL DEFAULT '',
  subject     TEXT NOT NULL DEFAULT '',
  choices     TEXT CHECK (choices IS NULL OR json_valid(choices)),
  added_by    TEXT NOT NULL,
  added_at    INTEGER NOT NULL,
  disabled_at INTEGER,
  CHECK (robot = 0 OR (password IS NULL AND email = '' AND subject = ''))
) STRICT;
CREATE UNIQUE INDEX one_account_an_email ON accounts (lower(email)) WHERE email <> '';
CREATE UNIQUE INDEX one_account_a_subject ON accounts (issuer, subject) WHERE subject <> '';
INSERT INTO accounts (id, name, added_by, added_at) SELECT id, name, added_by, added_at FROM people;

CREATE TABLE memberships (
  person_id INTEGER NOT NULL REFERENCES accounts (id),
  project   TEXT NOT NULL CHECK (project <> ''),
  role      TEXT NOT NULL CHECK (role <> ''),
  given_by  TEXT NOT NULL,
  given_at  INTEGER NOT NULL,
  PRIMARY KEY (person_id, project, role)
) STRICT, WITHOUT ROWID;
INSERT INTO memberships (person_id, project, role, given_by, given_at)
  SELECT p.id, '*', r.column2, 'inner-ladder', p.added_at FROM people p
  JOIN (VALUES ('owner', 'owner'), ('member', 'author'), ('member', 'approver'), ('member', 'operator')) r ON r.column1 = p.role;

CREATE TABLE roles (
  name        TEXT PRIMARY KEY CHECK (name <> ''),
  permissions TEXT NOT NULL CHECK (json_valid(permissions)),
  description TEXT NOT NULL,
  made_by     TEXT NOT NULL,
  made_at     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE access_tokens (
  id         INTEGER PRIMARY KEY,
  person_id  INTEGER NOT NULL REFERENCES accounts (id),
  title      TEXT NOT NULL,
  digest     BLOB NOT NULL UNIQUE CHECK (length(digest) = 32),
  hint       TEXT NOT NULL,
  scope      TEXT NOT NULL CHECK (json_valid(scope)),
  made_by    TEXT NOT NULL,
  made_at    INTEGER NOT NULL,
  expires_at INTEGER NOT NULL,
  used_at    INTEGER,
  ended_at   INTEGER
) STRICT;
CREATE INDEX tokens_of ON access_tokens (person_id);
INSERT INTO access_tokens (person_id, title, digest, hint, scope, made_by, made_at, expires_at)
  SELECT person_id, 'from before there were titles', digest, '', '{}', 'inner-ladder', made_at, made_at + 366 * 86400000 FROM tokens;

DROP TABLE tokens;
DROP TABLE sessions;
DROP TABLE people;
ALTER TABLE accounts RENAME TO people;
ALTER TABLE access_tokens RENAME TO tokens;

CREATE TABLE sessions (
  id         INTEGER PRIMARY KEY,
  digest     BLOB NOT NULL UNIQUE CHECK (length(digest) = 32),
  person_id  INTEGER NOT NULL REFERENCES people (id),
  how        TEXT NOT NULL,
  address    TEXT NOT NULL,
  agent      TEXT NOT NULL,
  made_at    INTEGER NOT NULL,
  expires_at INTEGER NOT NULL
) STRICT;
CREATE INDEX sessions_of ON sessions (person_id);

-- Links that let someone in once: the first owner, who was invited, who lost a password.
CREATE TABLE links_in (
  digest     BLOB PRIMARY KEY CHECK (length(digest) = 32),
  person_id  INTEGER REFERENCES people (id),
  made_by    TEXT NOT NULL,
  made_at    INTEGER NOT NULL,
  expires_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- What must not be readable on the disk, sealed.
CREATE TABLE secrets (
  name   TEXT PRIMARY KEY CHECK (name <> ''),
  sealed BLOB NOT NULL,
  set_by TEXT NOT NULL,
  set_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE settings (
  name   TEXT PRIMARY KEY CHECK (name <> ''),
  value  TEXT NOT NULL CHECK (json_valid(value)),
  set_by TEXT NOT NULL,
  set_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- The callers of an endpoint have keys, not accounts.
ALTER TABLE endpoints ADD COLUMN keyed INTEGER NOT NULL DEFAULT 0 CHECK (keyed IN (0, 1));
CREATE TABLE callers (
  id          INTEGER PRIMARY KEY,
  endpoint_id INTEGER NOT NULL REFERENCES endpoints (id),
  name        TEXT NOT NULL CHECK (name <> ''),
  digest      BLOB NOT NULL UNIQUE CHECK (length(digest) = 32),
  hint        TEXT NOT NULL,
  made_by     TEXT NOT NULL,
  made_at     INTEGER NOT NULL,
  ended_at    INTEGER
) STRICT;
CREATE UNIQUE INDEX one_key_a_caller ON callers (endpoint_id, name) WHERE ended_at IS NULL;

-- Data sets and runs are some project's too.
DROP TRIGGER data_sets_are_immutable;
ALTER TABLE data_sets ADD COLUMN project TEXT NOT NULL DEFAULT 'default';
ALTER TABLE runs ADD COLUMN project TEXT NOT NULL DEFAULT 'default';
UPDATE runs SET project = coalesce((SELECT m.project FROM models m WHERE m.name = runs.model), 'default');
UPDATE data_sets SET project = coalesce((SELECT m.project FROM links l JOIN versions v ON v.id = l.from_id JOIN models m ON m.id = v.model_id
  WHERE l.to_kind = 2 AND l.to_id = data_sets.id AND l.from_kind = 1 ORDER BY v.id LIMIT 1), 'default');
-- +goose StatementBegin
CREATE TRIGGER data_sets_are_immutable BEFORE UPDATE ON data_sets
BEGIN SELECT RAISE(ABORT, 'a revision of a data set is immutable'); END;
-- +goose StatementEnd

-- The record anew: each line is text that ends in a hash over it and the line before it.
-- Lines that were written before are taken over when the service starts.
ALTER TABLE audit RENAME TO audit_before;
CREATE TABLE record (
  seq  INTEGER PRIMARY KEY CHECK (seq > 0),
  line TEXT NOT NULL
) STRICT;
-- +goose StatementBegin
CREATE TRIGGER record_lines_stay BEFORE UPDATE ON record
BEGIN SELECT RAISE(ABORT, 'the record is append-only'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER record_lines_remain BEFORE DELETE ON record
BEGIN SELECT RAISE(ABORT, 'the record is append-only'); END;
-- +goose StatementEnd
-- Some lines are sealed with a signature over their hash.
CREATE TABLE record_seals (
  seq       INTEGER PRIMARY KEY,
  hash      BLOB NOT NULL CHECK (length(hash) = 32),
  signature BLOB NOT NULL CHECK (length(signature) = 64)
) STRICT;
-- Which line is the last, authenticated, so that cutting lines off is found; and how far
-- the index has come.
CREATE TABLE record_head (
  one     INTEGER PRIMARY KEY CHECK (one = 1),
  seq     INTEGER NOT NULL,
  hash    BLOB NOT NULL,
  mac     BLOB NOT NULL
) STRICT;
CREATE TABLE record_indexed (
  one INTEGER PRIMARY KEY CHECK (one = 1),
  seq INTEGER NOT NULL
) STRICT;
INSERT INTO record_indexed (one, seq) VALUES (1, 0);
-- One inverted index serves all searches: words of the sentence and the reason, and one
-- token for each thing that can be filtered by. It follows the record at a distance: a
-- change need not wait for it, a search does.
CREATE VIRTUAL TABLE record_index USING fts5 (terms, content='', columnsize=0, detail=none, tokenize="unicode61 remove_diacritics 2");

-- The words that stand in it, so that a beginning can be completed: the index would read
-- through everything that any of them stands in.
CREATE TABLE record_words (
  word TEXT PRIMARY KEY
) STRICT, WITHOUT ROWID;

-- Comments, which are lines of the record too, by what they answer.
CREATE TABLE comments (
  seq   INTEGER PRIMARY KEY REFERENCES record (seq),
  on_seq INTEGER NOT NULL
) STRICT;
CREATE INDEX comments_on ON comments (on_seq, seq);

CREATE TABLE saved_searches (
  id        INTEGER PRIMARY KEY,
  name      TEXT NOT NULL CHECK (name <> ''),
  person_id INTEGER NOT NULL REFERENCES people (id),
  shared    INTEGER NOT NULL CHECK (shared IN (0, 1)),
  query     TEXT NOT NULL CHECK (json_valid(query)),
  made_at   INTEGER NOT NULL,
  UNIQUE (person_id, name)
) STRICT;

CREATE TABLE notices (
  id        INTEGER PRIMARY KEY,
  person_id INTEGER NOT NULL REFERENCES people (id),
  seq       INTEGER NOT NULL REFERENCES record (seq),
  topic     TEXT NOT NULL,
  -- The promotion that waits for review.
  about     TEXT NOT NULL DEFAULT '',
  read_at   INTEGER
) STRICT;
CREATE INDEX notices_of ON notices (person_id, id);
CREATE INDEX notices_about ON notices (about) WHERE about <> '';
CREATE INDEX notices_unread ON notices (person_id, id) WHERE read_at IS NULL;

CREATE TABLE webhooks (
  id       INTEGER PRIMARY KEY,
  project  TEXT NOT NULL CHECK (project <> ''),
  address  TEXT NOT NULL CHECK (address <> ''),
  kinds    TEXT NOT NULL CHECK (json_valid(kinds)),
  made_by  TEXT NOT NULL,
  made_at  INTEGER NOT NULL,
  ended_at INTEGER
) STRICT;

-- What must still reach someone outside, and what did.
CREATE TABLE deliveries (
  id       INTEGER PRIMARY KEY,
  webhook  INTEGER REFERENCES webhooks (id),
  person_id INTEGER REFERENCES people (id),
  seq      INTEGER NOT NULL REFERENCES record (seq),
  topic    TEXT NOT NULL,
  state    TEXT NOT NULL CHECK (state IN ('waiting', 'delivered', 'failed')),
  tries    INTEGER NOT NULL DEFAULT 0,
  next_at  INTEGER NOT NULL,
  answer   TEXT NOT NULL DEFAULT '',
  made_at  INTEGER NOT NULL,
  done_at  INTEGER,
  CHECK ((webhook IS NULL) <> (person_id IS NULL))
) STRICT;
CREATE INDEX deliveries_due ON deliveries (next_at) WHERE state = 'waiting';
CREATE INDEX deliveries_of_webhook ON deliveries (webhook, id);
