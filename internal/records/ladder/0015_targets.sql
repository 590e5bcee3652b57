-- +goose Up
-- Rules of a split that come before shares, and what keeps callers of an endpoint on their lane.
DROP TRIGGER splits_are_immutable;
ALTER TABLE splits ADD COLUMN rules TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(rules));
-- +goose StatementBegin
CREATE TRIGGER splits_are_immutable BEFORE UPDATE ON splits
BEGIN SELECT RAISE(ABORT, 'a split is immutable'); END;
-- +goose StatementEnd
ALTER TABLE endpoints ADD COLUMN sticky TEXT NOT NULL DEFAULT '';
