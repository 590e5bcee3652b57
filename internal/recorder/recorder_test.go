package recorder

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/store"
)

func start(t *testing.T, path string, budget int) (*Recorder, *store.Signals) {
	t.Helper()
	signals, err := store.OpenSignals(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = signals.Close() })
	r, err := New(t.Context(), signals, slog.New(slog.DiscardHandler), budget)
	if err != nil {
		t.Fatal(err)
	}
	return r, signals
}

func lane(t *testing.T, r *Recorder, kind, version string) *Lane {
	t.Helper()
	l, err := r.Lane(t.Context(), store.LaneKey{Endpoint: "demand-hourly", Split: 2, Lane: kind, Version: version}, time.Now().Add(-time.Hour), true)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func pair(x float64, mix string, y float64) (request, answer []byte) {
	return fmt.Appendf(nil, `{"inputs":[{"name":"temp_c","shape":[1],"datatype":"FP64","data":[%v]},{"name":"mix","shape":[1],"datatype":"BYTES","data":[%q]}]}`, x, mix),
		fmt.Appendf(nil, `{"model_name":"m","outputs":[{"name":"demand_mw","shape":[1],"datatype":"FP64","data":[%v]}]}`, y)
}

func TestCountsAreCompleteAndWritten(t *testing.T) {
	r, signals := start(t, filepath.Join(t.TempDir(), "s.db"), 10)
	l := lane(t, r, "main", "heat-demand@1")
	now := time.Now().Truncate(time.Minute).Add(30 * time.Second)
	wanted := 0
	for i := range 3000 {
		class := sketch.Answered
		if i%10 == 0 {
			class = sketch.ServerError
		}
		if l.Observe(Observation{Class: class, Total: time.Duration(i) * time.Microsecond, Drawn: true}, now.Add(time.Duration(i)*time.Millisecond)) {
			wanted++
		}
	}
	if wanted == 0 || wanted > 3*2*10 {
		t.Errorf("%d bodies were wanted of 3 seconds at a budget of 10", wanted)
	}
	r.flush(t.Context(), now.Add(3*time.Second))
	// later in the same minute, and in the next
	l.Observe(Observation{Class: sketch.Answered}, now.Add(5*time.Second))
	l.Observe(Observation{Class: sketch.TimedOut}, now.Add(50*time.Second))
	r.flush(t.Context(), now.Add(51*time.Second))
	windows, err := signals.Windows(t.Context(), "demand-hourly", now, now.Add(2*time.Minute))
	if err != nil {
		t.Fatal(err)
	}
	if len(windows) != 2 || windows[0].Summary.Counts.Requests != 3001 || windows[0].Summary.Counts.ServerErrors != 300 || windows[1].Summary.Counts.TimedOut != 1 {
		t.Fatalf("windows: %+v", windows)
	}
	if got := windows[0].Summary.Counts.Drawn; got != 3000 {
		t.Errorf("drawn: %d", got)
	}
	recent := r.Recent("demand-hourly", now, now.Add(2*time.Second))
	if len(recent) != 1 || recent[0].Traffic.Counts.Requests != 2000 {
		t.Errorf("the first two seconds: %+v", recent)
	}
}

func TestTakingUpAfterARestart(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	r, signals := start(t, path, 100)
	l := lane(t, r, "trial", "heat-demand@2")
	now := time.Now()
	for range 50 {
		l.Observe(Observation{Class: sketch.Answered}, now.Add(-5*time.Minute))
	}
	for range 7 {
		l.Observe(Observation{Class: sketch.ServerError}, now)
	}
	r.flush(t.Context(), now)
	_ = signals.Close() // the service is killed: nothing else is written

	r, _ = start(t, path, 100)
	l = lane(t, r, "trial", "heat-demand@2")
	if e := r.Evidence("demand-hourly", 2)["heat-demand@2"]; e.Requests != 57 || e.Failed != 7 {
		t.Errorf("evidence after a restart: %+v", e)
	}
	l.Observe(Observation{Class: sketch.Answered}, now)
	windows, err := r.Windows(t.Context(), "demand-hourly", now.Add(-time.Hour), now.Add(time.Minute))
	if err != nil {
		t.Fatal(err)
	}
	var sum uint64
	for _, w := range windows {
		sum += w.Summary.Counts.Requests
	}
	if sum != 58 {
		t.Errorf("%d requests in the store, want 58", sum)
	}
}

func TestBodiesBecomeColumns(t *testing.T) {
	r, _ := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	main, trial := lane(t, r, "main", "heat-demand@1"), lane(t, r, "trial", "heat-demand@2")
	for i := range binsAfter {
		q, a := pair(float64(i%100), "works", float64(i))
		r.read(bodies{main, q, a})
		if i < 300 {
			q, a = pair(float64(i%2), "harbour", float64(i)+5000)
			r.read(bodies{trial, q, a})
		}
	}
	r.read(bodies{main, []byte("oops"), []byte("{}")})
	e := r.Evidence("demand-hourly", 2)
	m, tr := e["heat-demand@1"], e["heat-demand@2"]
	if got := m.Outputs["demand_mw"]; got.Seen() != binsAfter || got.Bins.Len() != sketch.MostBins {
		t.Errorf("main: %d seen on %d bins", got.Seen(), got.Bins.Len())
	}
	if got := tr.Outputs["demand_mw"]; got.Over != 300 {
		t.Errorf("what waited for its bins was lost: %+v", got)
	}
	if m.Distinct < 95 || m.Distinct > 105 || tr.Distinct != 2 {
		t.Errorf("distinct inputs: %d and %d, want 100 and 2", m.Distinct, tr.Distinct)
	}
	windows, err := r.Windows(t.Context(), "demand-hourly", time.Now().Add(-time.Minute), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if c := windows[0].Summary.Content; c.Unread != 1 || c.Inputs["mix"].Counts[0] != binsAfter {
		t.Errorf("content: %+v", c)
	}
}

func TestAFullQueueDropsAndSaysSo(t *testing.T) {
	r, _ := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	l := lane(t, r, "main", "heat-demand@1")
	for range queueLength + 5 { // nobody reads
		l.Offer(nil, nil)
	}
	if _, unread := r.Totals(); unread != 5 {
		t.Errorf("%d dropped, want 5", unread)
	}
}

func TestStoppingReadsWhatIsQueued(t *testing.T) {
	r, signals := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	l := lane(t, r, "main", "heat-demand@1")
	r.FixBins(store.Column{Endpoint: "demand-hourly", Side: store.Output, Name: "demand_mw"}, sketch.Bins{Edges: []float64{0, 1}}, "a test")
	for range 100 {
		q, a := pair(1, "works", 0.5)
		l.Offer(q, a)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	r.Run(ctx)
	windows, err := signals.Windows(t.Context(), "demand-hourly", time.Now().Add(-time.Minute), time.Now())
	if err != nil || len(windows) != 1 || windows[0].Summary.Content.Outputs["demand_mw"].Counts[0] != 100 {
		t.Errorf("after stopping: %v, %+v", err, windows)
	}
	if all, err := signals.AllBins(t.Context()); err != nil || len(all) != 1 || all[0].Source != "a test" {
		t.Errorf("bins: %+v, %v", all, err)
	}
}

func TestCallersCannotFillTheMemory(t *testing.T) {
	r, _ := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	l := lane(t, r, "main", "heat-demand@1")
	for i := range 2 * mostColumns {
		r.read(bodies{l, fmt.Appendf(nil, `{"inputs":[{"name":"x%d","shape":[1],"datatype":"FP64","data":[1e999]}]}`, i), []byte(`{"outputs":[]}`)})
	}
	if n := len(r.scales.pending); n > mostColumns {
		t.Errorf("%d columns wait for bins", n)
	}
}

// A lane that is quiet for an hour is still recorded when someone calls again.
func TestQuietLanesAreKeptWhileTheyAreInUse(t *testing.T) {
	r, signals := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	used, gone := lane(t, r, "main", "heat-demand@1"), lane(t, r, "trial", "heat-demand@2")
	r.Keep(map[*Lane]bool{used: true})
	begin := time.Now().Truncate(time.Minute)
	gone.Observe(Observation{Class: sketch.Answered}, begin)
	r.flush(t.Context(), begin.Add(time.Second))
	later := begin.Add(time.Hour)
	r.forget(later)
	used.Observe(Observation{Class: sketch.Answered}, later)
	r.flush(t.Context(), later.Add(time.Second))
	windows, err := signals.Windows(t.Context(), "demand-hourly", later, later)
	if err != nil || len(windows) != 1 || windows[0].Summary.Counts.Requests != 1 {
		t.Errorf("%+v, %v", windows, err)
	}
	totals, _ := r.Totals()
	if len(r.lanes) != 1 || totals[Total{"demand-hourly", "trial", "heat-demand@2"}].Counts.Requests != 1 {
		t.Errorf("%d lanes in memory, totals %+v", len(r.lanes), totals)
	}
}
