-- +goose Up
-- How much of what shows a trial good there was, beside how much of what speaks against it.
ALTER TABLE readings ADD COLUMN enough REAL NOT NULL DEFAULT 0;
