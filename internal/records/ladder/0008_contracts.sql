-- +goose Up
-- What the callers of an endpoint rely on, and which of it the versions of a split keep: 0 where
-- a split was made before there were contracts.
CREATE TABLE contracts (
  endpoint_id INTEGER NOT NULL REFERENCES endpoints (id),
  number      INTEGER NOT NULL CHECK (number > 0),
  version_id  INTEGER NOT NULL REFERENCES versions (id),
  signature   TEXT NOT NULL CHECK (json_valid(signature)),
  reason      TEXT NOT NULL CHECK (reason <> ''),
  author      TEXT NOT NULL,
  made_at     INTEGER NOT NULL,
  PRIMARY KEY (endpoint_id, number)
) STRICT, WITHOUT ROWID;
CREATE INDEX contracts_by_version ON contracts (version_id);
-- +goose StatementBegin
CREATE TRIGGER contracts_are_immutable BEFORE UPDATE ON contracts
BEGIN SELECT RAISE(ABORT, 'a contract is immutable'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER contracts_are_kept BEFORE DELETE ON contracts
BEGIN SELECT RAISE(ABORT, 'a contract is kept'); END;
-- +goose StatementEnd
ALTER TABLE splits ADD COLUMN contract INTEGER NOT NULL DEFAULT 0 CHECK (contract >= 0);

-- What the servers of a placement declared that they take and give, when it was placed.
ALTER TABLE placements ADD COLUMN declared TEXT CHECK (declared IS NULL OR json_valid(declared));
