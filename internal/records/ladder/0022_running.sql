-- +goose Up
-- How a placed version is run on the service's machine, as JSON; NULL where it runs in servers of others.
ALTER TABLE placements ADD COLUMN runner TEXT CHECK (runner IS NULL OR json_valid(runner));
