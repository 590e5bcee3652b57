package records

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/test/template"
)

var now = time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)

func open2(t *testing.T) (*DB, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "ladder db?.db") // a name that a careless address would cut
	template.Copy(t, "new", path, empty)
	return openAt(t, path), path
}

// seed adds a model with a version, an endpoint with a split, and a promotion.
func seed(t *testing.T, s *DB) {
	t.Helper()
	err := s.Write(t.Context(), Everything, func(r View) error {
		p := &ladder.Promotion{
			State: ladder.Open, Version: "heat-demand@1", From: "draft", To: "live", AskedBy: "runa",
			OpenedAt: now,
		}
		return errors.Join(
			r.AddModel(t.Context(), registry.Model{Name: "heat-demand", Task: registry.Regression, CreatedAt: now}),
			r.AddVersion(t.Context(), &registry.Version{
				Model: "heat-demand", Digest: strings.Repeat("a", 64),
				Rung: "draft", RungSince: now, CreatedBy: "runa", CreatedAt: now,
				Metrics: map[string]float64{"rmse": 1}, Params: map[string]string{"depth": "6"},
				Artifacts: []registry.Artifact{{Name: "m", Digest: strings.Repeat("b", 64), Size: 3}},
			}),
			r.AddEnvironment(t.Context(), traffic.Environment{Name: "plant-north", Project: "default", AddedAt: now}),
			r.AddEndpoint(t.Context(), traffic.Endpoint{
				Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north",
				Rung: "live", Terms: guard.DefaultTerms(), CreatedAt: now,
			}),
			r.AddSplit(t.Context(), &traffic.Split{
				Endpoint: "demand-hourly",
				Lanes:    []traffic.Lane{{Kind: traffic.Main, Version: "heat-demand@1", Share: traffic.Whole}},
				MadeAt:   now,
			}),
			r.AddPromotion(t.Context(), p),
			r.AddEntry(t.Context(), &record.Entry{
				At: now, Actor: "runa", Kind: "model.added", Subject: "heat-demand",
				Sentence: "x",
			}))
	})
	if err != nil {
		t.Fatal(err)
	}
}

// The schema states the rules again, for whatever finds its way past the service.
func schemaHoldsTheRules(t *testing.T, s *DB) {
	seed(t, s)
	for name, statement := range map[string]string{
		"a version changes":            `UPDATE versions SET created_by = 'odd'`,
		"a split changes":              `UPDATE splits SET reason = 'other'`,
		"a lane changes":               `UPDATE lanes SET share = 5`,
		"a line of the record changes": `UPDATE record SET line = '{}'`,
		"a line of the record goes":    `DELETE FROM record`,
		"the one who asked signs": `INSERT INTO answers (promotion, by, answer, note, at, roles, handed_to,
			candidate_digest, incumbent, signed_with, envelope)
			VALUES (1, 'runa', 'yes', '', 0, '[]', '', '', '', '', '{}')`,
		"an unknown answer": `INSERT INTO answers (promotion, by, answer, note, at, roles, handed_to,
			candidate_digest, incumbent, signed_with, envelope)
			VALUES (1, 'tove', 'perhaps', '', 0, '[]', '', '', '', '', '{}')`,
		"a second main lane":     `INSERT INTO lanes VALUES (1, 1, 1, 'main', 1, 0)`,
		"a share above all":      `INSERT INTO lanes VALUES (1, 1, 1, 'trial', 1, 10001)`,
		"a split of no endpoint": `INSERT INTO splits VALUES (99, 1, '', '', 0, 0)`,
		"a second open promotion": `INSERT INTO promotions (number, version_id, from_rung, to_rung, asked_by,
			note, state, opened_at) VALUES (2, 1, 'draft', 'live', 'x', '', 'open', 0)`,
		"a closed promotion, no time":   `UPDATE promotions SET state = 'refused'`,
		"a metric that is text":         `INSERT INTO metrics VALUES (1, 'mae', 'good')`,
		"a healthy address with reason": `INSERT INTO addresses VALUES (1, 0, 'http://x', 1, 'down', 0)`,
		"the same content twice": `INSERT INTO versions (model_id, number, digest, note, rung, rung_since,
			created_by, created_at) SELECT model_id, 2, digest, note, rung, rung_since, created_by, created_at
			FROM versions`,
		"a version's card changes":      `UPDATE version_texts SET card = '{}'`,
		"a version gets another digest": `UPDATE versions SET digest = lower(hex(randomblob(32)))`,
		"a tag of nothing":              `INSERT INTO tags VALUES ('x', 0, 0)`,
		"a tag of two things":           `INSERT INTO tags VALUES ('x', 1, 1)`,
		"a run that ended, no time": `INSERT INTO runs (number, model, title, state, by, machine, started)
			VALUES (1, 'm', '', 'finished', 'runa', '', 0)`,
		"a data set that changes": `INSERT INTO data_sets
			VALUES (1, 'w', 1, '', '', 0, 0, '[]', '', 'runa', 0, 'default'); UPDATE data_sets SET rows = 4`,
		"a link of an unknown kind": `INSERT INTO links VALUES (9, 1, 'x', 1, 1)`,
	} {
		err := s.Write(t.Context(), Everything, func(r View) error {
			_, err := r.q.exec(t.Context(), statement)
			return err
		})
		if err == nil {
			t.Errorf("%s, and the schema lets it", name)
		}
	}
	if err := s.Write(t.Context(), Everything,
		func(r View) error { return r.SetRung(t.Context(), "heat-demand", 1, "live", "", now) }); err != nil {
		t.Errorf("a version cannot climb: %v", err)
	}
}

func failedChangeLeavesNothing(t *testing.T, s *DB) {
	bad := errors.New("decided against it")
	err := s.Write(t.Context(), Everything, func(r View) error {
		north := traffic.Environment{Name: "plant-north", Project: "default", AddedAt: now}
		if err := r.AddEnvironment(t.Context(), north); err != nil {
			return err
		}
		return bad
	})
	if !errors.Is(err, bad) {
		t.Errorf("got %v", err)
	}
	if all, err := s.Read(Everything).Environments(t.Context()); err != nil || len(all) != 0 {
		t.Errorf("%+v, %v", all, err)
	}
}

func readingDoesNotWrite(t *testing.T, s *DB) {
	x := traffic.Environment{Name: "x", Project: "default", AddedAt: now}
	if err := s.Read(Everything).AddEnvironment(t.Context(), x); err == nil {
		t.Error("something was written outside of a transaction")
	}
}

func TestEverythingComesBackAfterOpeningAgain(t *testing.T) {
	s, path := open2(t)
	seed(t, s)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	r := s.Read(Everything)
	v, err := r.Version(t.Context(), "heat-demand", 1)
	if err != nil || v.Metrics["rmse"] != 1 || v.Params["depth"] != "6" || v.Artifacts[0].Size != 3 ||
		!v.CreatedAt.Equal(now) {
		t.Errorf("%+v, %v", v, err)
	}
	e, err := r.Endpoint(t.Context(), "demand-hourly")
	if err != nil || e.Split == nil || e.Split.Number != 1 || len(e.Terms.Guards) != len(guard.DefaultTerms().Guards) {
		t.Errorf("%+v, %v", e, err)
	}
	if _, err := r.Version(t.Context(), "heat-demand", 2); !errors.Is(err, ErrNone) {
		t.Errorf("a version that is not there: %v", err)
	}
}

// Many people at once: numbers are given once, and readers never wait for writers.
func numbersAreGivenOnce(t *testing.T, s *DB) {
	seed(t, s)
	var wait sync.WaitGroup
	for i := range 40 {
		wait.Go(func() {
			err := s.Write(context.Background(), Everything, func(r View) error {
				return r.AddVersion(context.Background(),
					&registry.Version{
						Model: "heat-demand", Digest: fmt.Sprintf("%064d", i), Rung: "draft",
						RungSince: now, CreatedAt: now,
					})
			})
			if err != nil {
				t.Error(err)
			}
			_, _, err = s.Read(Everything).Versions(context.Background(), "heat-demand", Page{Limit: 5})
			if err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	var seen []int
	for after := ""; ; {
		page, next, err := s.Read(Everything).Versions(t.Context(), "heat-demand", Page{Limit: 7, After: after})
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range page {
			seen = append(seen, v.Number)
		}
		if after = next; next == "" {
			break
		}
	}
	for i, n := range seen {
		if n != 41-i {
			t.Fatalf("numbers by pages of seven: %v", seen)
		}
	}
	if len(seen) != 41 {
		t.Errorf("%d versions, want 41", len(seen))
	}
}

// Every foreign key has an index that begins with it: without one, whoever changes or
// takes away what it points to reads the whole table.
func foreignKeysHaveIndexes(t *testing.T, s *DB) {
	rows, err := s.db.Read.QueryContext(t.Context(), `SELECT m.name || ' (' || f."from" || ')'
		FROM sqlite_master m, pragma_foreign_key_list(m.name) f
		WHERE m.type = 'table' AND f.seq = 0
		AND NOT EXISTS (SELECT 1 FROM pragma_index_list(m.name) l, pragma_index_info(l.name) i
			WHERE NOT l.partial AND i.seqno = 0 AND i.name = f."from")
		AND NOT EXISTS (SELECT 1 FROM pragma_table_info(m.name) c WHERE c.pk = 1 AND c.name = f."from")`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var key string
		if err := rows.Scan(&key); err != nil {
			t.Fatal(err)
		}
		t.Errorf("%s has no index", key)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
}
