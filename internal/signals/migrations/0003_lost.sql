-- +goose Up
-- Requests among those drawn for a lane that another lane answered, and failures of a caller who had
-- failed in the same second already.
ALTER TABLE traffic ADD COLUMN lost INTEGER NOT NULL DEFAULT 0;
ALTER TABLE traffic ADD COLUMN repeated INTEGER NOT NULL DEFAULT 0;
