-- +goose Up
-- An environment is some project's, and shared with named ones. Those that are there already stay
-- open to every project, and where their servers are sent secrets, for the addresses that they have.
ALTER TABLE environments ADD COLUMN project TEXT NOT NULL DEFAULT 'default' CHECK (project <> '');
ALTER TABLE environments ADD COLUMN allowed TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(allowed));
ALTER TABLE environments ADD COLUMN removed_at INTEGER;
CREATE TABLE environment_shares (
  environment_id INTEGER NOT NULL REFERENCES environments (id) ON DELETE CASCADE,
  project        TEXT NOT NULL CHECK (project <> ''),
  PRIMARY KEY (environment_id, project)
) STRICT, WITHOUT ROWID;
UPDATE environments SET project = coalesce(
  (SELECT m.project FROM placements p JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id
    WHERE p.environment_id = environments.id ORDER BY p.id LIMIT 1),
  (SELECT m.project FROM endpoints e JOIN models m ON m.id = e.model_id
    WHERE e.environment_id = environments.id ORDER BY e.id LIMIT 1), 'default');
INSERT INTO environment_shares (environment_id, project)
  SELECT e.id, p.name FROM environments e JOIN projects p ON p.name <> e.project;
UPDATE environments SET allowed = (SELECT json_group_array(DISTINCT host) FROM (
    SELECT CASE instr(rest, '/') WHEN 0 THEN rest ELSE substr(rest, 1, instr(rest, '/') - 1) END AS host
    FROM (SELECT lower(substr(a.url, instr(a.url, '://') + 3)) AS rest FROM addresses a
      JOIN placements p ON p.id = a.placement_id
      WHERE p.environment_id = environments.id AND p.removed_at IS NULL)))
  WHERE EXISTS (SELECT 1 FROM secrets s WHERE substr(s.name, 1, length(environments.name) + 13)
    = 'environment/' || environments.name || '/');
