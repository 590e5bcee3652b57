-- +goose Up
-- What an endpoint keeps of single requests.
ALTER TABLE endpoints ADD COLUMN requests TEXT NOT NULL CHECK (json_valid(requests))
  DEFAULT '{"share":10000,"per_second":100,"bytes":16384,"for":"168h","columns":[]}';
