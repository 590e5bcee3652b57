-- +goose Up
-- A lane may get copies of requests and answer nobody: how far apart its numbers and main's may be that agree. What
-- endpoints hold trials to gets the guard that is about those.
ALTER TABLE lanes ADD COLUMN tolerance REAL NOT NULL DEFAULT 0;
UPDATE endpoints SET terms = json_insert(terms, '$.guards[#]',
    json('{"signal":"disagreement","margin":0.05,"then":"notify"}'))
  WHERE terms LIKE '%"missing_outputs"%' AND terms NOT LIKE '%"disagreement"%';
