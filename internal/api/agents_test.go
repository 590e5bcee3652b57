package api_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/internal/agent"
	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// measured registers a version that gives numbers, and brings it to live.
func (r *rig) measured(content string) string {
	r.t.Helper()
	files := with(r.file("rows.csv", "x,y\n1.5,2.25\n2.5,3.5\n"), r.file("model.bin", content))
	metrics := map[string]float64{"rmse": 0.4}
	v, err := r.runa.Register(r.t.Context(), wire.Registration{
		Model: "heat-demand", Metrics: metrics, Targets: []string{"y"},
	}, append(files, r.report(metrics)))
	must(r.t, err)
	r.approve(v.Ref)
	return v.Ref
}

// edge sets up an endpoint whose versions answer elsewhere, all by heat-demand@1.
func (r *rig) edge() {
	r.t.Helper()
	ctx := r.t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "substations"})
	must(r.t, err)
	for i := range 2 {
		ref := r.measured(fmt.Sprint("edge weights ", i))
		p, err := r.runa.PlaceElsewhere(ctx, ref, "substations")
		must(r.t, err)
		if !p.Elsewhere || !p.Healthy || len(p.Addresses) != 0 {
			r.t.Errorf("placed as %+v", p)
		}
	}
	_, err = r.runa.AddEndpoint(ctx, wire.NewEndpoint{
		Name: "demand-edge", Model: "heat-demand", Environment: "substations",
	})
	must(r.t, err)
	split, err := r.runa.Split(ctx, "demand-edge", lanes(10000, 0)[:1], "start", -1)
	must(r.t, err)
	if !split.Elsewhere {
		r.t.Errorf("the split is %+v", split)
	}
}

// tell has an agent tell the service of lines.
func (r *rig) tell(dir, lines string) agent.Told {
	r.t.Helper()
	told, err := agent.Run(r.t.Context(), agent.Options{
		Service: r.runa, Endpoint: "demand-edge", Dir: dir, Name: "substation-7", Once: true, Limit: 64 << 20,
		Input: strings.NewReader(lines), Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	must(r.t, err)
	return told
}

func TestWhatAnswersElsewhereIsNotReached(t *testing.T) {
	r := newRig(t)
	r.edge()
	ctx := t.Context()
	if status, id := r.asked("demand-edge", ask); status != http.StatusMisdirectedRequest || id == "" {
		t.Errorf("the gateway answered %d", status)
	}
	for what, refused := range map[string]func() error{
		"split.elsewhere": func() error {
			_, err := r.runa.Split(ctx, "demand-edge", lanes(9000, 1000), "", -1)
			return err
		},
		"placement.no_address": func() error {
			_, err := r.runa.Place(ctx, "heat-demand@1", "substations", nil, "")
			return err
		},
		"placement.exists": func() error {
			_, err := r.runa.PlaceElsewhere(ctx, "heat-demand@1", "substations")
			return err
		},
		"placement.elsewhere": func() error {
			_, err := r.runa.ChangeAddresses(ctx, "heat-demand@1", "substations", wire.EditAddresses{
				Add: []string{"http://127.0.0.1:1"},
			})
			return err
		},
		"placement.in_use": func() error {
			_, err := r.runa.Unplace(ctx, "heat-demand@1", "substations")
			return err
		},
		"rollout.lacks": func() error {
			_, err := r.runa.Roll(ctx, "demand-edge", wire.NewRollout{To: "heat-demand@2"})
			return err
		},
	} {
		if got := client.Code(refused()); got != what {
			t.Errorf("%q, want %s", got, what)
		}
	}
	if status, _, body := r.call("POST", "/api/v1/placements", `{"version":"heat-demand@1","environment":"substations",
		"elsewhere":true,"addresses":["http://127.0.0.1:1"]}`); status != 422 ||
		!strings.Contains(string(body), "placement.elsewhere_at") {
		t.Errorf("elsewhere at an address: %d %s", status, body)
	}
}

// What answers elsewhere gets no copies, and whether a split is elsewhere follows from where its versions answer now.
func TestSplitsOfWhatAnswersElsewhere(t *testing.T) {
	r := newRig(t)
	r.edge()
	ctx := t.Context()
	model := r.modelServer(0)
	ref := r.measured("more edge weights")
	_, err := r.runa.Place(ctx, ref, "substations", []string{model.URL}, "")
	must(t, err)
	_, err = r.runa.Split(ctx, "demand-edge", []traffic.Lane{
		{Kind: traffic.Main, Version: ref, Share: traffic.Whole},
		{Kind: traffic.Shadow, Version: "heat-demand@2", Share: 1000},
	}, "", -1)
	wantCode(t, "copies for what answers elsewhere", err, "split.elsewhere")
	// Another version that answers there is said by another split, without anything that watches over a takeover.
	split, err := r.runa.Split(ctx, "demand-edge", []traffic.Lane{
		{Kind: traffic.Main, Version: "heat-demand@2", Share: traffic.Whole},
	}, "the new firmware", -1)
	must(t, err)
	if !split.Elsewhere || split.Number != 2 {
		t.Errorf("the split is %+v", split)
	}
	back, err := r.runa.Back(ctx, "demand-edge", 0, "it was the wrong firmware", -1)
	must(t, err)
	if !back.Elsewhere {
		t.Errorf("the way back is %+v", back)
	}
	// Where it answers now is asked anew: a way back leads through the gateway when its version does by then.
	_, err = r.runa.Split(ctx, "demand-edge", []traffic.Lane{
		{Kind: traffic.Main, Version: ref, Share: traffic.Whole},
	}, "through the gateway", -1)
	must(t, err)
	_, err = r.runa.Unplace(ctx, "heat-demand@1", "substations")
	must(t, err)
	_, err = r.runa.Place(ctx, "heat-demand@1", "substations", []string{r.modelServer(0).URL}, "")
	must(t, err)
	if back, err = r.runa.Back(ctx, "demand-edge", 1, "as before", -1); err != nil || back.Elsewhere {
		t.Errorf("the way back is %+v, %v", back, err)
	}
	until(t, "the gateway answers", func() bool {
		status, _ := r.asked("demand-edge", ask)
		return status == http.StatusOK
	})
}

func TestWhatAnswersElsewhereIsSeen(t *testing.T) {
	r := newRig(t)
	r.edge()
	ctx := t.Context()
	now := time.Now()
	var lines strings.Builder
	for i := range 3000 {
		at := now.Add(-time.Duration(i) * 10 * time.Millisecond)
		version, status := "heat-demand@1", 200
		if i%3 == 0 {
			version = "2"
		}
		if i%50 == 0 {
			status = 500
		}
		fmt.Fprintf(&lines, `{"at":%q,"version":%q,"ms":%d,"status":%d,"inputs":{"x":%d},"outputs":{"y":%d}}`+"\n",
			at.Format(time.RFC3339Nano), version, 1+i%9, status, i%100, i%100)
	}
	dir := t.TempDir()
	if told := r.tell(dir, lines.String()); told.Requests != 3000 || told.Aside != 0 {
		t.Errorf("told of %+v", told)
	}
	agents, err := r.runa.Agents(ctx, "demand-edge")
	must(t, err)
	if len(agents.Items) != 1 || agents.Items[0].Requests != 3000 || agents.Items[0].Name != "substation-7" {
		t.Errorf("the agents are %+v", agents.Items)
	}
	c, err := r.runa.Compare(ctx, "demand-edge", "heat-demand@1", []string{"heat-demand@2"}, client.Over{})
	must(t, err)
	if one, two := c.Items[0].IncumbentRequests, c.Items[0].CandidateRequests; one != 2000 || two != 1000 ||
		len(c.Items[0].Predictions) != 1 {
		t.Errorf("side by side: %d and %d requests, %+v", one, two, c.Items[0].Predictions)
	}
	until(t, "it is seen as of now", func() bool {
		state, err := r.runa.Now(ctx)
		must(t, err)
		l := state[0].Lanes[0]
		return l.Rate > 0 && l.ErrorRate > 0 && l.P99 > 0
	})
	if told := r.tell(dir, ""); told.Requests != 0 {
		t.Errorf("again told of %+v", told)
	}
}

func TestWhoMayReportWhatAnswersElsewhere(t *testing.T) {
	r := newRig(t)
	r.edge()
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	_, err = r.runa.Place(ctx, "heat-demand@1", "plant-north", []string{r.modelServer(0).URL}, "")
	must(t, err)
	_, err = r.runa.AddEndpoint(ctx,
		wire.NewEndpoint{Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north"})
	must(t, err)
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "start", -1)
	must(t, err)
	const id = "91b1b05d-e64e-4443-834f-3d753028cf1d"
	reader := client.New(r.server, r.person("odd", everywhere("reader")...))
	_, err = r.runa.AddProject(ctx, "other", "")
	must(t, err)
	stranger := client.New(r.server, r.person("ana", access.Membership{Project: "other", Role: "operator"}))
	column := sketch.ColumnOf(sketch.Bins{Edges: []float64{0, 1, 2}}, []float64{0.5})
	batch := func(number int64, version string) elsewhere.Batch {
		return elsewhere.Batch{Number: number, Name: "a", Windows: []elsewhere.Window{{
			Version: version, Minute: time.Now().UTC().Truncate(time.Minute), Counts: elsewhere.Counts{Requests: 1},
			Bodies: 1, Rows: 1, Inputs: map[string]*sketch.Column{"x": column},
		}}}
	}
	for _, c := range []struct {
		who             *client.Client
		endpoint, agent string
		batch           elsewhere.Batch
		code            string
	}{
		{reader, "demand-edge", id, batch(1, "heat-demand@1"), "permission.missing"},
		{stranger, "demand-edge", id, batch(1, "heat-demand@1"), "endpoint.unknown"},
		{r.runa, "demand-hourly", id, batch(1, "heat-demand@1"), "elsewhere.here"},
		{r.runa, "demand-edge", "seven", batch(1, "heat-demand@1"), "elsewhere.agent"},
		{r.runa, "demand-edge", id, batch(1, "heat-demand@9"), "elsewhere.version"},
		{r.runa, "demand-edge", id, batch(1, "heat-demand@live"), "elsewhere.version"},
		{r.runa, "demand-edge", id, batch(0, "heat-demand@1"), "elsewhere.number"},
	} {
		_, err := c.who.AgentBatch(ctx, c.endpoint, c.agent, c.batch)
		if got := client.Code(err); got != c.code {
			t.Errorf("%s: %q (%v), want %s", c.endpoint, got, err, c.code)
		}
	}
	// A column that has no bins here cannot be added, and everything else is.
	taken, err := r.runa.AgentBatch(ctx, "demand-edge", id, batch(1, "heat-demand@1"))
	must(t, err)
	if taken.Again || len(taken.Left) != 1 || taken.Left[0] != "input x" {
		t.Errorf("taken as %+v", taken)
	}
	// The first who proposes bins decides.
	for _, edges := range [][]float64{{0, 1, 2}, {0, 5}} {
		known, err := r.runa.AgentMet(ctx, "demand-edge", id, wire.AgentMet{
			Versions: []string{"1", "heat-demand@2", "valve-fault@1", "heat-demand@live"},
			Columns:  []wire.AgentColumn{{Side: "input", Name: "x", Bins: sketch.Bins{Edges: edges}}},
		})
		must(t, err)
		if len(known.Versions) != 2 || known.Versions["1"] != "heat-demand@1" || len(known.Columns) != 1 ||
			len(known.Columns[0].Bins.Edges) != 3 {
			t.Errorf("known are %+v", known)
		}
	}
	taken, err = r.runa.AgentBatch(ctx, "demand-edge", id, batch(2, "heat-demand@1"))
	must(t, err)
	if len(taken.Left) != 0 {
		t.Errorf("taken as %+v", taken)
	}
	if taken, err = r.runa.AgentBatch(ctx, "demand-edge", id, batch(2, "heat-demand@1")); err != nil || !taken.Again {
		t.Errorf("again: %+v, %v", taken, err)
	}
	if _, err := r.runa.AgentMet(ctx, "demand-edge", id, wire.AgentMet{
		Columns: []wire.AgentColumn{{Side: "input", Name: "z", Bins: sketch.Bins{Edges: []float64{1, 0}}}},
	}); client.Code(err) != "elsewhere.column" {
		t.Errorf("bins out of order: %v", err)
	}
}
