-- +goose Up
-- A model that was taken away leaves its deleted versions, from which others may have been made,
-- under a name that nothing else can have. A person's project is where what they add goes when they
-- name none. An endpoint that was taken away keeps its name and its splits: what it answered is traced by them.
ALTER TABLE models ADD COLUMN removed_at INTEGER;
ALTER TABLE endpoints ADD COLUMN removed_at INTEGER;
ALTER TABLE people ADD COLUMN project TEXT NOT NULL DEFAULT '';
-- What the metrics of a model mean, where it was said: their unit, and which way is better.
CREATE TABLE metric_meanings (
  model_id INTEGER NOT NULL REFERENCES models (id) ON DELETE CASCADE,
  name     TEXT NOT NULL CHECK (name <> ''),
  unit     TEXT NOT NULL,
  better   TEXT NOT NULL CHECK (better IN ('', 'lower', 'higher')),
  PRIMARY KEY (model_id, name)
) STRICT, WITHOUT ROWID;
