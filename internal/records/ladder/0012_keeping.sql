-- +goose Up
-- A model that was taken away leaves its deleted versions, from which others may have been made,
-- under a name that nothing else can have. A person's project is where what they add goes when they
-- name none.
ALTER TABLE models ADD COLUMN removed_at INTEGER;
ALTER TABLE people ADD COLUMN project TEXT NOT NULL DEFAULT '';
