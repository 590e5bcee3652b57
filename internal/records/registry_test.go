package records

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/watch"
	"innerladder/internal/sqlite"
)

// catalogueOf fills a store with made-up versions.
func catalogueOf(t *testing.T, models, versions int) *DB {
	t.Helper()
	s, _ := open2(t)
	r := rand.New(rand.NewPCG(3, 5))
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	err := s.Write(t.Context(), Everything, func(w View) error {
		for m := range models {
			model := registry.Model{
				Name: fmt.Sprintf("heat-%02d", m), Project: "default",
				Task: registry.Task(pick("regression", "classification")), Owner: pick("runa", "tove"),
				Description: pick("demand of a substation", "valve faults"), CreatedAt: now,
			}
			if err := w.AddModel(t.Context(), model); err != nil {
				return err
			}
			if m%3 == 0 {
				vetting := &registry.Vetting{By: "runa", At: now, Why: "checked"}
				if err := w.SetVetted(t.Context(), model.Name, vetting); err != nil {
					return err
				}
			}
			for d := range 2 {
				if m == 0 {
					if err := w.AddDataSet(t.Context(),
						&lineage.DataSet{
							Name: fmt.Sprintf("winters-%d", d), AddedAt: now,
							AddedBy: "runa",
						}); err != nil {
						return err
					}
				}
			}
			for n := range versions {
				v := &registry.Version{
					Model: model.Name, Digest: fmt.Sprintf("%064x", m*1000+n),
					Note: pick("two winters", "with the wind", "æøå and Ü"),
					Rung: pick("draft", "draft", "proven", "live"), RungSince: now, CreatedBy: "runa",
					CreatedAt: now.Add(time.Duration(m*versions+n) * time.Hour),
					Metrics:   map[string]float64{"rmse": float64(r.IntN(100)) / 100},
					Params:    map[string]string{"depth": fmt.Sprint(r.IntN(9))},
					Artifacts: []registry.Artifact{{
						Name: "m", Digest: strings.Repeat("b", 64),
						Size: int64(r.IntN(1000)), Stored: true,
						Contents: registry.Contents{Format: pick("onnx", "json")},
					}},
					Data: []lineage.DataUse{{Data: pick("winters-0#1", "winters-1#1"), Role: lineage.TrainedOn}},
					Card: &registry.Card{Text: "card", Licence: pick("MIT", "internal")},
				}
				if r.IntN(2) == 0 {
					v.Metrics["r2"] = r.Float64()
				}
				if err := w.AddVersion(t.Context(), v); err != nil {
					return err
				}
				if r.IntN(4) == 0 {
					if err := w.Tag(t.Context(), Subject{v.Model, v.Number}, "winter", true); err != nil {
						return err
					}
				}
				if n == 3 {
					if err := w.PutLabel(t.Context(),
						registry.Label{Name: "beta", Version: v.Ref, MovedBy: "runa", MovedAt: now}); err != nil {
						return err
					}
				}
				if err := w.IndexVersions(t.Context(), v.Ref); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// all pages through a search.
func all(t *testing.T, s *DB, search Search, limit int) []registry.Found {
	t.Helper()
	var out []registry.Found
	for cursor := ""; ; {
		part, next, err := s.Read(Everything).Find(t.Context(), search, Page{Limit: limit, After: cursor})
		if err != nil {
			t.Fatalf("%+v: %v", search, err)
		}
		out = append(out, part...)
		if cursor = next; cursor == "" {
			return out
		}
	}
}

// Every search gives what looking at each version gives, in the same order, whatever way
// the query takes and however it is cut into pages.
// searchCase is a search and which versions it must find.
type searchCase struct {
	search Search
	keep   func(registry.Found) bool
}

// searchCases lists searches of what catalogueOf makes; details are its versions by their refs,
// about the descriptions of its models.
func searchCases(details map[string]*registry.Version, about map[string]string) map[string]searchCase {
	text := func(words ...string) func(registry.Found) bool {
		return func(f registry.Found) bool {
			v := details[f.Ref]
			whole := strings.ToLower(strings.Join([]string{
				f.Model, f.Note, f.Owner, string(f.Task), "card",
				strings.Join(f.Tags, " "),
			}, " "))
			whole += " " + about[v.Model]
			return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(whole, w) })
		}
	}
	return map[string]searchCase{
		"rung": {Search{Rung: "live"}, func(f registry.Found) bool { return f.Rung == "live" }},
		"task and owner": {
			Search{Task: "regression", Owner: "runa"},
			func(f registry.Found) bool { return f.Task == "regression" && f.Owner == "runa" },
		},
		"format":  {Search{Format: "onnx"}, func(f registry.Found) bool { return slices.Contains(f.Formats, "onnx") }},
		"tag":     {Search{Tag: "winter"}, func(f registry.Found) bool { return slices.Contains(f.Tags, "winter") }},
		"label":   {Search{Label: "beta"}, func(f registry.Found) bool { return slices.Contains(f.Labels, "beta") }},
		"licence": {Search{Licence: "mit"}, func(f registry.Found) bool { return f.Licence == "MIT" }},
		"vetted":  {Search{Vetted: true}, func(f registry.Found) bool { return f.Vetted }},
		"metric": {
			Search{Metrics: []metric.Bound{{Metric: "rmse", How: "<", Value: 0.3}}},
			func(f registry.Found) bool { return f.Metrics["rmse"] < 0.3 },
		},
		"two metrics": {Search{
			Metrics: []metric.Bound{{Metric: "rmse", How: ">=", Value: 0.5}, {Metric: "r2", How: ">", Value: 0.5}},
		}, func(f registry.Found) bool {
			r2, there := f.Metrics["r2"]
			return f.Metrics["rmse"] >= 0.5 && there && r2 > 0.5
		}},
		"data": {
			Search{Data: lineage.DataRef{Name: "winters-0"}},
			func(f registry.Found) bool { return details[f.Ref].Data[0].Data == "winters-0#1" },
		},
		"data, revision": {
			Search{Data: lineage.DataRef{Name: "winters-0", Number: 2}},
			func(registry.Found) bool { return false },
		},
		"age": {
			Search{After: now.Add(600 * time.Hour)},
			func(f registry.Found) bool { return !f.CreatedAt.Before(now.Add(600 * time.Hour)) },
		},
		"model":          {Search{Model: "heat-03"}, func(f registry.Found) bool { return f.Model == "heat-03" }},
		"placed nowhere": {Search{PlacedIn: "plant-north"}, func(registry.Found) bool { return false }},
		"answers no one": {Search{Answering: "any"}, func(registry.Found) bool { return false }},
		"text":           {Search{Text: "wind with"}, text("with", "wind")},
		"text, prefix":   {Search{Text: "two win"}, text("two win")},
		"text, accents":  {Search{Text: "ÆØÅ"}, text("æøå")},
		"text, operator": {Search{Text: `wind" OR (NEAR*`}, func(registry.Found) bool { return false }},
		"all together": {Search{
			Text: "substation", Rung: "draft", Format: "json", Tag: "winter",
			Metrics: []metric.Bound{{Metric: "rmse", How: "<=", Value: 0.8}},
		}, func(f registry.Found) bool {
			return text("substation")(f) && f.Rung == "draft" && slices.Contains(f.Formats, "json") &&
				slices.Contains(f.Tags, "winter") && f.Metrics["rmse"] <= 0.8
		}},
	}
}

func TestSearchesFindWhatIsThere(t *testing.T) {
	s := catalogueOf(t, 9, 92) // more than fewEnough, so both ways are taken
	every := all(t, s, Search{}, 1000)
	if len(every) != 9*92 {
		t.Fatalf("%d versions", len(every))
	}
	details, about := map[string]*registry.Version{}, map[string]string{}
	models, _, err := s.Read(Everything).Models(t.Context(), ModelFilter{}, Page{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range models {
		about[m.Name] = m.Description
	}
	for name := range about {
		versions, _, err := s.Read(Everything).Versions(t.Context(), name, Page{Limit: 200})
		if err != nil {
			t.Fatal(err)
		}
		for i := range versions {
			details[versions[i].Ref] = &versions[i]
		}
	}
	for name, c := range searchCases(details, about) {
		for _, order := range []struct {
			name       string
			sort       string
			descending bool
		}{
			{"newest", "", false},
			{"oldest", "", true},
			{"by metric", "rmse", false},
			{"by metric, turned", "r2", true},
		} {
			if order.descending && len(name)%3 > 0 {
				continue // a third of the searches in the turned orders will do
			}
			search := c.search
			search.Sort, search.Descending = order.sort, order.descending
			want := sorted(every, search, c.keep)
			if got := all(t, s, search, 170); !slices.Equal(refs(got), refs(want)) {
				t.Errorf("%s, %s: %d found, %d are like that; first %v and %v", name, order.name, len(got), len(want),
					refs(got)[:min(3, len(got))], refs(want)[:min(3, len(want))])
			}
		}
	}
	if names, err := s.Read(Everything).MetricNames(t.Context(), 10); err != nil || fmt.Sprint(names) != "[r2 rmse]" {
		t.Errorf("%v, %v", names, err)
	}
}

// sorted is what a search must find, by looking at every version.
func sorted(every []registry.Found, search Search, keep func(registry.Found) bool) []registry.Found {
	var want []registry.Found
	for _, f := range every {
		if _, there := f.Metrics[search.Sort]; keep(f) && (search.Sort == "" || there) {
			want = append(want, f)
		}
	}
	slices.SortFunc(want, func(a, b registry.Found) int {
		by := cmp.Compare(b.ID, a.ID)
		if search.Sort != "" {
			by = cmp.Or(cmp.Compare(a.Metrics[search.Sort], b.Metrics[search.Sort]), cmp.Compare(a.ID, b.ID))
		}
		if search.Descending {
			return -by
		}
		return by
	})
	return want
}

func refs(list []registry.Found) (out []string) {
	for _, f := range list {
		out = append(out, f.Ref)
	}
	return out
}

func TestWhatIsDeletedIsGoneButItsNumber(t *testing.T) {
	s := catalogueOf(t, 1, 4)
	ctx := t.Context()
	if err := s.Write(ctx, Everything, func(r View) error {
		return r.DeleteVersion(ctx, "heat-00", 4, Deleted{At: now, By: "runa", Why: "personal data"})
	}); err != nil {
		t.Fatal(err)
	}
	r := s.Read(Everything)
	if _, err := r.Version(ctx, "heat-00", 4); err != ErrNone {
		t.Errorf("a deleted version is found: %v", err)
	}
	if g, err := r.DeletedVersion(ctx, "heat-00", 4); err != nil || g.Why != "personal data" {
		t.Errorf("%+v, %v", g, err)
	}
	if found := all(t, s, Search{Text: "heat"}, 10); len(found) != 3 {
		t.Errorf("%d versions are found", len(found))
	}
	if m, err := r.Model(ctx, "heat-00"); err != nil || m.Newest != 3 || m.Versions != 3 || len(m.Labels) != 0 {
		t.Errorf("%+v, %v", m, err)
	}
	again := &registry.Version{
		Model: "heat-00", Digest: fmt.Sprintf("%064x", 3), Rung: "draft", RungSince: now,
		CreatedAt: now, CreatedBy: "runa",
	}
	err := s.Write(ctx, Everything, func(r View) error { return r.AddVersion(ctx, again) })
	if err != nil || again.Number != 5 {
		t.Errorf("the same content again is %s, %v", again.Ref, err)
	}
	n, err := r.VersionNode(ctx, "heat-00@4")
	if err != nil {
		t.Fatal(err)
	}
	if links, err := r.MadeFrom(ctx, []Node{n}, 10); err != nil || len(links) != 1 {
		t.Errorf("its lineage: %v, %v", links, err)
	}
}

func curvesAreThinnedEvenly(t *testing.T, s *DB) {
	ctx := t.Context()
	run := &lineage.Run{
		Model: "heat-demand", State: lineage.Running, By: "runa", Started: now,
		Params: map[string]string{"depth": "6"},
	}
	var points []lineage.Point
	for i := range 1003 {
		points = append(points, lineage.Point{Metric: "loss", Step: int64(i), Value: 1 / float64(i+1), At: now})
	}
	if err := s.Write(ctx, Everything, func(r View) error {
		if err := r.AddRun(ctx, run); err != nil {
			return err
		}
		return r.PutPoints(ctx, run.Number, points)
	}); err != nil {
		t.Fatal(err)
	}
	curves, err := s.Read(Everything).Curves(ctx, run.Number, 100)
	if err != nil || len(curves) != 1 || len(curves[0].Points) > 101 || len(curves[0].Points) < 90 ||
		!curves[0].Thinned || curves[0].Points[len(curves[0].Points)-1].Step != 1002 {
		t.Errorf("%d curves of %d points, %v", len(curves), len(curves[0].Points), err)
	}
	if got, err := s.Read(Everything).Run(ctx, run.Number); err != nil || got.Metrics["loss"] != points[1002].Value ||
		got.Params["depth"] != "6" {
		t.Errorf("%+v, %v", got, err)
	}
}

// A database of before the registry comes through the migration with everything in it.
func TestOldRecordsComeThroughTheMigration(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ladder.db")
	first, err := fs.ReadFile(ladderMigrations, "ladder/0001_records.sql")
	if err != nil {
		t.Fatal(err)
	}
	db, err := sqlite.Open(t.Context(), path,
		sqlite.Options{Synchronous: "FULL", Migrations: fstest.MapFS{"0001_records.sql": {Data: first}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{
		`INSERT INTO models VALUES (1, 'heat-demand', 'regression', 'heat', 'runa', 0)`,
		`INSERT INTO versions VALUES (1, 1, 1, '` + strings.Repeat("a", 64) +
			`', 'two winters', '{"inputs":[{"name":"x","type":"number","nullable":false}],"outputs":[]}', '{"rows":400,"columns":{}}', '{"commit":"abc1234","dirty":false}', 'live', 5, 'runa', 5)`,
		`INSERT INTO environments (id, name, description, added_by, added_at) VALUES (1, 'plant-north', '', 'runa', 0)`,
		`INSERT INTO endpoints VALUES (1, 'demand-hourly', 1, 1, 'live', '', '{"guards":[],"alpha":0.001}', 'runa', 0)`,
		`INSERT INTO splits VALUES (1, 1, '', 'runa', 0, 0)`,
		`INSERT INTO splits VALUES (1, 2, 'a look', 'runa', 1, 0)`,
		`INSERT INTO splits VALUES (1, 3, 'complaints', 'tove', 2, 1)`,
		`INSERT INTO splits VALUES (1, 4, 'it failed', 'inner-ladder', 3, 0)`,
		`INSERT INTO lanes VALUES (1, 1, 0, 'main', 1, 10000), (1, 2, 0, 'main', 1, 10000)`,
		`INSERT INTO lanes VALUES (1, 3, 0, 'main', 1, 10000)`,
		`INSERT INTO lanes VALUES (1, 4, 0, 'main', 1, 10000)`,
		`INSERT INTO alerts VALUES (1, 'rolled_back', 'demand-hourly', 'heat-demand@1', 'error_rate', 'It failed.',
			'open', 7, '', NULL, '')`,
		`INSERT INTO artifacts VALUES (1, 'm', '` + strings.Repeat("b", 64) + `', 3)`,
	} {
		if _, err := db.Write.ExecContext(t.Context(), statement); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	v, err := s.Read(Everything).Version(t.Context(), "heat-demand", 1)
	if err != nil || v.Signature == nil || v.Signature.Inputs[0].Name != "x" || v.ProfileRows != 400 ||
		!v.Artifacts[0].Stored || v.Code.Commit != "abc1234" || v.Note != "two winters" {
		t.Errorf("%+v, %v", v, err)
	}
	if p, err := s.Read(Everything).Profile(t.Context(), "heat-demand", 1); err != nil || p.Rows != 400 {
		t.Errorf("%+v, %v", p, err)
	}
	if found := all(t, s, Search{Text: "winters"}, 5); len(found) != 1 || found[0].Owner != "runa" {
		t.Errorf("%+v", found)
	}
	if nodes, err := s.Read(Everything).CodeNodes(t.Context(), "abc"); err != nil || len(nodes) != 1 {
		t.Errorf("%v, %v", nodes, err)
	}
	if e, err := s.Read(Everything).Endpoint(t.Context(), "demand-hourly"); err != nil || e.Split == nil ||
		e.Split.Main().Version != "heat-demand@1" || e.Repeatable {
		t.Errorf("%+v, %v", e, err)
	}
	history, _, err := s.Read(Everything).Splits(t.Context(), "demand-hourly", Page{Limit: 9})
	if err != nil || len(history) != 4 || history[2].Left == nil || history[2].Left.By != "tove" ||
		history[2].Left.Why != "complaints" || history[1].Leaves != 2 || history[0].Leaves != 3 ||
		history[3].Left != nil {
		t.Errorf("%+v, %v", history, err)
	}
	a, err := s.Read(Everything).Alert(t.Context(), 1)
	if err != nil || a.Kind != watch.RolledBack || a.State != "open" {
		t.Errorf("%+v, %v", a, err)
	}
	var n int
	if err := s.db.Read.QueryRowContext(context.Background(), `SELECT count(*) FROM pragma_foreign_key_check`).
		Scan(&n); err != nil || n != 0 {
		t.Errorf("%d rows point at nothing, %v", n, err)
	}
}

// Whatever someone types is a search, never an error of the database.
func FuzzSearchText(f *testing.F) {
	s, err := Open(f.Context(), filepath.Join(f.TempDir(), "ladder.db"))
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { _ = s.Close() })
	for _, text := range []string{
		"winter", `"`, `a" OR b*`, "NEAR(a b)", "title:x", "-", "æ ø", "\x00",
		"{a b} : c ^d",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		_, _, err := s.Read(Everything).Find(t.Context(), Search{Text: text, Sort: "rmse"}, Page{Limit: 5})
		if err != nil {
			t.Fatalf("%q: %v", text, err)
		}
	})
}
