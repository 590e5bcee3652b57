-- +goose Up
-- A metric is claimed at registration or measured by a report of an evaluation. value is what
-- counts: what was measured last, else what was claimed.
ALTER TABLE metrics ADD COLUMN claimed REAL;
ALTER TABLE metrics ADD COLUMN evidence_id INTEGER REFERENCES evidence (id);
ALTER TABLE metrics ADD COLUMN measured_on TEXT NOT NULL DEFAULT '';
UPDATE metrics SET claimed = value;
INSERT INTO metrics (version_id, name, value, evidence_id, measured_on)
  SELECT e.version_id, x.key, x.value, e.id, coalesce(json_extract(e.findings, '$.evaluation.data'), '')
  FROM evidence e, json_each(e.findings, '$.metrics') x WHERE e.kind = 'evaluation' ORDER BY e.id
  ON CONFLICT (version_id, name) DO UPDATE SET value = excluded.value, evidence_id = excluded.evidence_id,
    measured_on = excluded.measured_on;
CREATE INDEX metrics_by_evidence ON metrics (evidence_id);
-- What gates asked of the newest report they now ask of what was measured.
DROP TRIGGER ladders_are_immutable;
UPDATE ladders SET ladder = replace(replace(ladder, '"from":"evaluation"', '"measured":true'),
  '"from":"registration"', '"measured":false')
  WHERE instr(ladder, '"from":"evaluation"') OR instr(ladder, '"from":"registration"');
-- +goose StatementBegin
CREATE TRIGGER ladders_are_immutable BEFORE UPDATE ON ladders
BEGIN SELECT RAISE(ABORT, 'a revision of a ladder is immutable'); END;
-- +goose StatementEnd
