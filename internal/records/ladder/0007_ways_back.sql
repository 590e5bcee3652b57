-- +goose Up
-- Which split was left for a reason when another came into force instead. Before, a way back
-- was known by what it returned to, and a guard's by its author.
DROP TRIGGER splits_are_immutable;
ALTER TABLE splits ADD COLUMN leaves INTEGER NOT NULL DEFAULT 0 CHECK (leaves >= 0 AND leaves < number);
UPDATE splits SET leaves = number - 1 WHERE number > 1 AND (returns_to > 0 OR author = 'inner-ladder');
CREATE UNIQUE INDEX splits_by_what_they_leave ON splits (endpoint_id, leaves) WHERE leaves > 0;
-- +goose StatementBegin
CREATE TRIGGER splits_are_immutable BEFORE UPDATE ON splits
BEGIN SELECT RAISE(ABORT, 'a split is immutable'); END;
-- +goose StatementEnd
