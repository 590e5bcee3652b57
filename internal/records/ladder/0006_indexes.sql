-- +goose Up
-- Every foreign key has an index that begins with it: without one, changing or taking away
-- what it points to reads the whole table.
CREATE INDEX versions_rung_by ON versions (rung_by);
CREATE INDEX placements_environment ON placements (environment_id);
CREATE INDEX placements_version ON placements (version_id);
CREATE INDEX endpoints_environment ON endpoints (environment_id);
CREATE INDEX endpoints_model ON endpoints (model_id);
CREATE INDEX audit_also_line ON audit_also (seq);
CREATE INDEX links_in_person ON links_in (person_id);
CREATE INDEX callers_endpoint ON callers (endpoint_id);
CREATE INDEX notices_line ON notices (seq);
CREATE INDEX deliveries_line ON deliveries (seq);
CREATE INDEX deliveries_person ON deliveries (person_id);
CREATE INDEX promotions_incumbent ON promotions (incumbent_id);
CREATE INDEX lanes_version ON lanes (version_id);
