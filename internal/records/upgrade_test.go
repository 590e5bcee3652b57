package records

import (
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/traffic"
	"innerladder/internal/sqlite"
)

// openUpTo opens a database as it was with the migration of a number, and fills it.
func openUpTo(t *testing.T, number string, statements ...string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "ladder.db")
	files, err := fs.Glob(ladderMigrations, "ladder/*.sql")
	if err != nil {
		t.Fatal(err)
	}
	before := fstest.MapFS{}
	for _, f := range files {
		text, err := fs.ReadFile(ladderMigrations, f)
		if err != nil {
			t.Fatal(err)
		}
		if name := filepath.Base(f); name < number+"~" {
			before[name] = &fstest.MapFile{Data: text}
		}
	}
	db, err := sqlite.Open(t.Context(), path, sqlite.Options{Synchronous: "FULL", Migrations: before})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range statements {
		if _, err := db.Write.ExecContext(t.Context(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

// Records of before metrics were claimed or measured, and environments somebody's, mean the same
// afterwards: what a report measured counts, environments serve all projects, and where servers are
// sent secrets, only the addresses that they have are allowed.
func TestWhatWasMeasuredAndWhereThingsRanIsKept(t *testing.T) {
	digest := strings.Repeat("a", 64)
	path := openUpTo(t, "0009",
		`INSERT INTO projects (name, description, added_by, added_at) VALUES ('heat', '', 'sif', 0),
			('valves', '', 'sif', 0)`,
		`INSERT INTO models (id, name, project, task, description, owner, created_by, created_at)
			VALUES (1, 'heat-demand', 'heat', 'regression', '', 'runa', 'runa', 0)`,
		`INSERT INTO versions (id, model_id, number, digest, note, licence, profile_rows, rung, rung_since, created_by,
			created_at) VALUES (1, 1, 1, '`+digest+`', '', '', 0, 'live', 0, 'runa', 0)`,
		`INSERT INTO version_texts (version_id) VALUES (1)`,
		`INSERT INTO metrics (version_id, name, value) VALUES (1, 'rmse', 0.1), (1, 'r2', 0.9)`,
		`INSERT INTO evidence (id, version_id, kind, name, digest, size, media, verdict, findings, added_by, added_at)
			VALUES (1, 1, 'evaluation', 'e.json', '`+digest+`', 1, 'application/json', 'none',
				'{"metrics":{"rmse":0.4},"evaluation":{"data":"winter","metrics":{"rmse":0.4}}}', 'runa', 5),
			(2, 1, 'evaluation', 'e.json', '`+digest+`', 1, 'application/json', 'none',
				'{"metrics":{"rmse":0.3,"mae":1},"evaluation":{"metrics":{"rmse":0.3,"mae":1}}}', 'runa', 6),
			(3, 1, 'load', 'l.json', '`+digest+`', 1, 'application/json', 'none', '{"metrics":{"p99":9}}', 'runa', 7)`,
		`INSERT INTO ladders (project, number, ladder, author, reason, made_at) VALUES ('heat', 1,
			'{"rungs":[{"name":"draft"},
				{"name":"live","gate":[{"kind":"metric","metric":"rmse","at_most":1,"from":"evaluation"}]}]}',
			'sif', 'x', 0)`,
		`INSERT INTO environments (id, name, description, added_by, added_at) VALUES (1, 'north', '', 'sif', 0),
			(2, 'south', '', 'sif', 0)`,
		`INSERT INTO placements (id, version_id, environment_id, served_as, placed_by, placed_at)
			VALUES (1, 1, 1, 'heat-demand', 'tove', 0)`,
		`INSERT INTO addresses (placement_id, position, url, healthy, reason, since)
			VALUES (1, 0, 'http://models.tarnholm.example:9001/v1', 1, '', 0), (1, 1, 'https://10.0.0.7', 1, '', 0)`,
		`INSERT INTO secrets (name, sealed, set_by, set_at)
			VALUES ('environment/north/Authorization', x'00', 'sif', 0)`,
	)
	s, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	r := s.Read(Everything)
	v, err := r.Version(t.Context(), "heat-demand", 1)
	if err != nil || v.Metrics["rmse"] != 0.3 || v.Measured["rmse"].Evidence != "E-2" ||
		*v.Measured["rmse"].Claimed != 0.1 ||
		v.Metrics["mae"] != 1 || v.Metrics["r2"] != 0.9 || len(v.Metrics) != 3 || len(v.Measured) != 2 {
		t.Errorf("%v, %+v, %v", v.Metrics, v.Measured, err)
	}
	l, err := r.Ladder(t.Context(), "heat")
	if err != nil || !l.Rungs[1].Gate[0].Rule.(rule.Metric).Measured {
		t.Errorf("%+v, %v", l.Rungs, err)
	}
	all, err := r.Environments(t.Context())
	if err != nil || len(all) != 2 {
		t.Fatalf("%+v, %v", all, err)
	}
	north, south := all[0], all[1]
	slices.Sort(north.Allowed)
	if north.Project != "heat" || !north.Serves("valves") || !north.Serves("default") || north.Headers != 1 ||
		!slices.Equal(north.Allowed, []traffic.AddressRule{"10.0.0.7", "models.tarnholm.example:9001"}) {
		t.Errorf("%+v", north)
	}
	p, err := r.Placements(t.Context(), "heat-demand@1")
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range p[0].Addresses {
		if err := north.CheckAddress(a.URL); err != nil {
			t.Errorf("%s: %v", a.URL, err)
		}
	}
	if len(south.Allowed) != 0 || south.Headers != 0 || south.CheckAddress("http://anywhere") != nil {
		t.Errorf("%+v", south)
	}
}
