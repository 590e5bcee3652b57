-- +goose Up
-- Whether requests are held against the contract before a model server sees them.
ALTER TABLE endpoints ADD COLUMN checked INTEGER NOT NULL CHECK (checked IN (0, 1)) DEFAULT 0;
