-- +goose Up
-- The signals of its own that an endpoint has: their names, units, and which way is better.
ALTER TABLE endpoints ADD COLUMN custom TEXT NOT NULL CHECK (json_valid(custom)) DEFAULT '[]';
