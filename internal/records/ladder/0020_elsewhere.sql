-- +goose Up
-- Whether the version of a split answers where the gateway does not reach.
ALTER TABLE splits ADD COLUMN elsewhere INTEGER NOT NULL CHECK (elsewhere IN (0, 1)) DEFAULT 0;
