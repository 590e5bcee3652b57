-- +goose Up
-- What every version of a model is put to: the standing evaluation, and the cases that it must answer. The number goes
-- on where something is taken away and set again.
CREATE TABLE model_proofs (
  model_id INTEGER NOT NULL REFERENCES models (id),
  what     TEXT NOT NULL CHECK (what IN ('standing', 'cases')),
  number   INTEGER NOT NULL CHECK (number > 0),
  body     TEXT CHECK (body IS NULL OR json_valid(body)),
  PRIMARY KEY (model_id, what)
) STRICT;
