package recorder

import (
	"context"
	"fmt"
	"log/slog"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
	"innerladder/test/template"
)

var (
	quiet = slog.New(slog.DiscardHandler)
	// minute is the beginning of one, which is the clock of these tests.
	minute = time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)
	pair   = guard.TrialPair{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 2, Since: minute}
)

func start(t *testing.T, path string, budget int) (*Recorder, *signals.Store) {
	t.Helper()
	r := New(quiet, budget)
	if _, err := os.Stat(path); err != nil {
		template.Copy(t, "signals.db", path, template.Of(signals.Open))
	}
	return r, attach(t, r, path)
}

func attach(t *testing.T, r *Recorder, path string) *signals.Store {
	t.Helper()
	store, err := signals.Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = store.Close() })
	if err := r.Attach(t.Context(), store); err != nil {
		t.Fatal(err)
	}
	return store
}

func lane(r *Recorder, kind, version string) *Lane {
	return r.Lane(Key{Endpoint: "demand-hourly", Split: 2, Lane: kind, Version: version})
}

// observe observes and counts n requests in the second that begins at a time.
func observe(r *Recorder, l *Lane, at time.Time, n int, class sketch.Class) {
	for i := range n {
		l.Observe(uint32(i), Observation{
			Class: class, Total: time.Duration(i+1) * time.Millisecond,
			Backend: time.Millisecond, Drawn: true,
		})
	}
	r.Tick(at.Add(time.Second))
}

func flush(t *testing.T, r *Recorder) {
	t.Helper()
	if err := r.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
}

func stored(t *testing.T, store *signals.Store, from, to time.Time) []signals.Window {
	t.Helper()
	windows, err := store.Windows(t.Context(),
		signals.Query{Endpoint: "demand-hourly", From: from, To: to, Latency: true, Content: true})
	if err != nil {
		t.Fatal(err)
	}
	return windows
}

func messages(x float64, mix string, y float64) (request, answer []byte) {
	return fmt.Appendf(
			nil,
			`{"inputs":[{"name":"temp_c","shape":[1],"datatype":"FP64","data":[%v]},`+
				`{"name":"mix","shape":[1],"datatype":"BYTES","data":[%q]}]}`,
			x,
			mix,
		),
		fmt.Appendf(nil,
			`{"model_name":"m","outputs":[{"name":"demand_mw","shape":[1],"datatype":"FP64","data":[%v]}]}`, y)
}

func TestCountsAreCompleteAndWritten(t *testing.T) {
	r, store := start(t, filepath.Join(t.TempDir(), "s.db"), 10)
	l := lane(r, "main", "heat-demand@1")
	at := minute.Add(30 * time.Second)
	for i := range 3 {
		observe(r, l, at.Add(time.Duration(i)*time.Second), 900, sketch.Answered)
		observe(r, l, at.Add(time.Duration(i)*time.Second), 100, sketch.ServerError)
		flush(t, r)
	}
	observe(r, l, at.Add(50*time.Second), 1, sketch.TimedOut)
	flush(t, r)
	windows := stored(t, store, minute, minute.Add(time.Hour))
	if len(windows) != 2 || windows[0].Summary.Counts.Requests != 3000 ||
		windows[0].Summary.Counts.ServerErrors != 300 || windows[1].Summary.Counts.TimedOut != 1 {
		t.Fatalf("windows: %+v", windows)
	}
	if s := windows[0].Summary; s.Counts.Drawn != 3000 || s.Latency.Count() != 2700 || s.Probability() >= 1 {
		t.Errorf("%+v, %d latencies, read with %v", s.Counts, s.Latency.Count(), s.Probability())
	}
	recent := r.Recent("demand-hourly", at, at.Add(2*time.Second))
	if len(recent) != 1 || recent[0].Traffic.Counts.Requests != 2000 {
		t.Errorf("the first two seconds: %+v", recent)
	}
}

// However many connections observe while the cells are emptied, nothing is lost.
func TestNothingIsLostBetweenObservingAndCounting(t *testing.T) {
	r := New(quiet, 10)
	l := lane(r, "main", "heat-demand@1")
	r.Follow("demand-hourly", []*Lane{l}, nil)
	const callers, each = 16, 5000
	var all sync.WaitGroup
	for shard := range uint32(callers) {
		all.Go(func() {
			for range each {
				l.Observe(shard, Observation{Class: sketch.Answered, Total: time.Millisecond})
			}
		})
	}
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	for at := minute; ; at = at.Add(time.Second) {
		r.Tick(at)
		select {
		case <-done:
			r.Tick(at)
			totals, _ := r.Totals()
			if n := totals[Total{"demand-hourly", "main", "heat-demand@1"}]; n.Counts.Requests != callers*each ||
				n.Latency.Count() != callers*each {
				t.Errorf("%d of %d were counted", n.Counts.Requests, callers*each)
			}
			return
		default:
		}
	}
}

func TestEvidenceIsTakenUpAfterARestart(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	r, store := start(t, path, 100)
	main, trial := lane(r, "main", "heat-demand@1"), lane(r, "trial", "heat-demand@2")
	r.Follow("demand-hourly", []*Lane{main, trial}, []guard.TrialPair{pair})
	r.FixBins(signals.Column{Endpoint: "demand-hourly", Side: signals.Output, Name: "demand_mw"},
		sketch.Bins{Edges: []float64{0, 1, 2}}, "a test")
	observe(r, main, minute, 500, sketch.Answered)
	observe(r, trial, minute, 50, sketch.Answered)
	observe(r, trial, minute.Add(5*time.Minute), 7, sketch.ServerError)
	for i := range 20 {
		q, a := messages(float64(i), "works", 0.5)
		r.read(bodies{trial, q, a})
	}
	flush(t, r)
	_ = store.Close() // the service is killed: nothing else is written

	r = New(quiet, 100)
	// The share grows, which is another split, and the gateway answers before anything is
	// read.
	main = r.Lane(Key{Endpoint: "demand-hourly", Split: 3, Lane: "main", Version: "heat-demand@1"})
	trial = r.Lane(Key{Endpoint: "demand-hourly", Split: 3, Lane: "trial", Version: "heat-demand@2"})
	r.Follow("demand-hourly", []*Lane{main, trial}, []guard.TrialPair{pair})
	observe(r, trial, minute.Add(6*time.Minute), 3, sketch.Answered)
	if _, ready := r.Evidence("demand-hourly"); ready {
		t.Error("evidence that was not read yet is given as all there is")
	}
	attach(t, r, path)
	flush(t, r)
	e, ready := r.Evidence("demand-hourly")
	got := e[pair.Key()]
	if !ready || got.Candidate.Counts.Requests != 60 || got.Candidate.Counts.Failed() != 7 ||
		got.Incumbent.Counts.Requests != 500 || got.Candidate.Distinct != 20 ||
		got.Candidate.Outputs["demand_mw"].Seen() != 20 {
		t.Errorf("after a restart: %v %+v", ready, got)
	}
	if n := r.Counts("demand-hourly", 3)["heat-demand@2"].Requests; n != 3 {
		t.Errorf("%d requests on the new split", n)
	}
}

// A restart, and a clock that jumps back, go on with the minute that was written.
func TestAMinuteGoesOn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	r, first := start(t, path, 100)
	observe(r, lane(r, "main", "heat-demand@1"), minute, 10, sketch.Answered)
	flush(t, r)
	_ = first.Close()
	r, store := start(t, path, 100)
	l := lane(r, "main", "heat-demand@1")
	observe(r, l, minute.Add(10*time.Second), 5, sketch.Answered)
	flush(t, r)
	observe(r, l, minute.Add(2*time.Hour), 1, sketch.Answered)
	flush(t, r)
	observe(r, l, minute.Add(20*time.Second), 2, sketch.Answered) // the clock was set right
	flush(t, r)
	windows := stored(t, store, minute, minute.Add(3*time.Hour))
	if len(windows) != 2 || windows[0].Summary.Counts.Requests != 17 || windows[0].Summary.Latency.Count() != 17 {
		t.Errorf("%+v", windows)
	}
	if n := r.Counts("demand-hourly", 2)["heat-demand@1"].Requests; n != 18 {
		t.Errorf("%d requests since the split came into force", n)
	}
}

func TestBodiesBecomeColumns(t *testing.T) {
	r, store := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	main, trial := lane(r, "main", "heat-demand@1"), lane(r, "trial", "heat-demand@2")
	r.Follow("demand-hourly", []*Lane{main, trial}, []guard.TrialPair{pair})
	for i := range binsAfter {
		q, a := messages(float64(i%100), "works", float64(i))
		r.read(bodies{main, q, a})
		if i < 300 {
			q, a = messages(float64(i%2), "harbour", float64(i)+5000)
			r.read(bodies{trial, q, a})
		}
	}
	r.read(bodies{main, []byte("oops"), []byte("{}")})
	r.Tick(minute.Add(time.Second))
	flush(t, r)
	evidence, _ := r.Evidence("demand-hourly")
	e := evidence[pair.Key()]
	if got := e.Incumbent.Outputs["demand_mw"]; got.Seen() != binsAfter || got.Bins.Len() != sketch.MostBins {
		t.Errorf("main: %d seen on %d bins", got.Seen(), got.Bins.Len())
	}
	if got := e.Candidate.Outputs["demand_mw"]; got.Over != 300 {
		t.Errorf("what waited for its bins was lost: %+v", got)
	}
	if e.Incumbent.Distinct < 95 || e.Incumbent.Distinct > 105 || e.Candidate.Distinct != 2 {
		t.Errorf("distinct inputs: %d and %d, want 100 and 2", e.Incumbent.Distinct, e.Candidate.Distinct)
	}
	for _, w := range stored(t, store, minute, minute.Add(time.Minute)) {
		if c := w.Summary.Content; w.Lane == "main" &&
			(c.Unread != 1 || c.Inputs["mix"].Counts[0] != binsAfter || c.Inputs["temp_c"].Mean() != 49.5) {
			t.Errorf("content: %+v", c)
		}
	}
}

func TestAFullQueueDropsAndSaysSo(t *testing.T) {
	r := New(quiet, 100)
	l := lane(r, "main", "heat-demand@1")
	for range queueLength + 5 { // nobody reads
		l.Offer(nil, nil)
	}
	large := make([]byte, mostQueued/2)
	for range 3 {
		l.Offer(large, nil)
	}
	r.Tick(minute)
	if _, unread := r.Totals(); unread != 8 {
		t.Errorf("%d dropped, want 8", unread)
	}
}

func TestStoppingReadsWhatIsQueued(t *testing.T) {
	r, store := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	l := lane(r, "main", "heat-demand@1")
	r.FixBins(signals.Column{Endpoint: "demand-hourly", Side: signals.Output, Name: "demand_mw"},
		sketch.Bins{Edges: []float64{0, 1}}, "a test")
	for range 100 {
		l.Offer(messages(1, "works", 0.5))
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	r.RunReader(ctx)
	r.Tick(minute.Add(time.Second))
	flush(t, r)
	if windows := stored(t, store, minute, minute.Add(time.Minute)); len(windows) != 1 ||
		windows[0].Summary.Content.Outputs["demand_mw"].Counts[0] != 100 {
		t.Errorf("after stopping: %+v", windows)
	}
	if all, err := store.AllBins(t.Context()); err != nil || len(all) != 1 || all[0].Source != "a test" {
		t.Errorf("bins: %+v, %v", all, err)
	}
}

// What callers choose is bounded: names, columns, values that wait, texts.
func TestCallersCannotFillTheMemory(t *testing.T) {
	r, _ := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	l := lane(r, "main", "heat-demand@1")
	for i := range 2 * mostColumns {
		r.read(bodies{l, fmt.Appendf(nil, `{"inputs":[{"name":"x%d","shape":[1],"datatype":"FP64","data":[1e999]}]}`,
			i), []byte(`{"outputs":[]}`)})
	}
	if n := len(r.scales.pending); n > mostColumns {
		t.Errorf("%d columns wait for bins", n)
	}
	r, _ = start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	l, other := lane(r, "main", "heat-demand@1"), lane(r, "trial", "heat-demand@2")
	null := []byte(`{"inputs":[{"name":"x","shape":[1000],"datatype":"FP64","data":[` + strings.Repeat("null,", 999) +
		`null]}]}`)
	long := []byte(`{"inputs":[{"name":"y","shape":[1000],"datatype":"BYTES","data":[` +
		strings.Repeat(`"`+strings.Repeat("z", 1000)+`",`, 999) + `"a"]}]}`)
	for range 20 {
		r.read(bodies{l, null, []byte(`{"outputs":[]}`)})
		r.read(bodies{other, long, []byte(`{"outputs":[]}`)})
	}
	x := r.scales.pending[signals.Column{Endpoint: "demand-hourly", Side: signals.Input, Name: "x"}]
	if len(x.all) != 0 || len(x.fromMain) != 0 || x.missing[l] != 20_000 {
		t.Errorf("a column that is always missing: %d values wait, %d missing", len(x.all), x.missing[l])
	}
	y := r.scales.pending[signals.Column{Endpoint: "demand-hourly", Side: signals.Input, Name: "y"}]
	if len(y.all) > mostPending || len(y.all[0].value.(string)) > longestName {
		t.Errorf("%d values of %d bytes wait", len(y.all), len(y.all[0].value.(string)))
	}
}

// A lane that is quiet for an hour is still recorded when someone calls again.
func TestQuietLanesAreKeptWhileTheyAreInUse(t *testing.T) {
	r, store := start(t, filepath.Join(t.TempDir(), "s.db"), 100)
	used, gone := lane(r, "main", "heat-demand@1"), lane(r, "trial", "heat-demand@2")
	r.Follow("demand-hourly", []*Lane{used}, nil)
	observe(r, gone, minute, 1, sketch.Answered)
	flush(t, r)
	later := minute.Add(time.Hour)
	r.Tick(later)
	flush(t, r)
	r.Tick(later)
	observe(r, used, later, 1, sketch.Answered)
	flush(t, r)
	if windows := stored(t, store, later, later.Add(time.Minute)); len(windows) != 1 ||
		windows[0].Summary.Counts.Requests != 1 {
		t.Errorf("%+v", windows)
	}
	totals, _ := r.Totals()
	if len(r.lanes) != 1 || totals[Total{"demand-hourly", "trial", "heat-demand@2"}].Counts.Requests != 1 {
		t.Errorf("%d lanes in memory, totals %+v", len(r.lanes), totals)
	}
}

// While nothing can be written everything is kept, and written when it can be again: to
// the same file or to a new one.
func TestWhatCouldNotBeWrittenIsWrittenLater(t *testing.T) {
	dir := t.TempDir()
	r, store := start(t, filepath.Join(dir, "s.db"), 100)
	l := lane(r, "main", "heat-demand@1")
	r.FixBins(signals.Column{Endpoint: "demand-hourly", Side: signals.Output, Name: "demand_mw"},
		sketch.Bins{Edges: []float64{0, 1}}, "a test")
	_ = store.Close()
	for i := range 5 {
		observe(r, l, minute.Add(time.Duration(i)*time.Minute), 10, sketch.Answered)
		q, a := messages(1, "works", 0.5)
		r.read(bodies{l, q, a})
		if err := r.Flush(t.Context()); err == nil {
			t.Fatal("it was written into a closed store")
		}
	}
	store = attach(t, r, filepath.Join(dir, "new.db"))
	flush(t, r)
	r.Tick(minute.Add(5*time.Minute + time.Second))
	flush(t, r)
	requests, seen := uint64(0), uint64(0)
	for _, w := range stored(t, store, minute, minute.Add(time.Hour)) {
		requests += w.Summary.Counts.Requests
		if c := w.Summary.Content.Outputs["demand_mw"]; c != nil {
			seen += c.Seen()
		}
	}
	if requests != 50 || seen != 5 {
		t.Errorf("%d requests and %d outputs were written, want 50 and 5", requests, seen)
	}
}

// Bins that were chosen while the signals were away give way to those that were fixed
// before, with what was counted on them.
func TestBinsThatWereFixedBeforeStay(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	column := signals.Column{Endpoint: "demand-hourly", Side: signals.Output, Name: "demand_mw"}
	r, first := start(t, path, 100)
	r.FixBins(column, sketch.Bins{Edges: []float64{0, 1, 2}}, "the first")
	flush(t, r)
	_ = first.Close()

	r = New(quiet, 100)
	r.Without()
	l := lane(r, "main", "heat-demand@1")
	r.Follow("demand-hourly", []*Lane{l}, []guard.TrialPair{pair})
	for i := range binsAfter + 10 {
		q, a := messages(1, "works", float64(i))
		r.read(bodies{l, q, a})
	}
	observe(r, l, minute, 1, sketch.Answered)
	store := attach(t, r, path)
	q, a := messages(1, "works", 0.5)
	r.read(bodies{l, q, a})
	observe(r, l, minute.Add(time.Second), 1, sketch.Answered)
	flush(t, r)
	got := stored(t, store, minute, minute.Add(time.Minute))[0].Summary.Content.Outputs["demand_mw"]
	if got.Bins.Len() != 2 || got.Seen() != 1 || got.Counts[0] != 1 ||
		r.BinsFrom("demand-hourly")[column] != "the first" {
		t.Errorf("%+v", got)
	}
}

// Both lanes of an endpoint are read with one probability at every moment, so two lanes of
// one law stay comparable through a day of tides: a simulated day of 1 440 steps. Its peak
// is 2 000 requests a second, 8 000 where there is time for that.
func TestTwoLanesOfOneLawThroughADay(t *testing.T) {
	r, _ := start(t, filepath.Join(t.TempDir(), "s.db"), 200)
	main, trial := lane(r, "main", "heat-demand@1"), lane(r, "trial", "heat-demand@2")
	r.Follow("demand-hourly", []*Lane{main, trial}, []guard.TrialPair{pair})
	r.FixBins(signals.Column{Endpoint: "demand-hourly", Side: signals.Output, Name: "demand_mw"},
		sketch.Bins{Edges: []float64{-2, -1.5, -1, -0.5, 0, 0.5, 1, 1.5, 2, 2.5, 3}}, "a test")
	flush(t, r)
	dice := rand.New(rand.NewPCG(3, 9))
	terms, state, worst := guard.DefaultTerms(), guard.State{}, 0.0
	peak := 2000.0
	if os.Getenv("SOAK") != "" {
		peak = 8000
	}
	for step := range 1440 {
		at := minute.Add(time.Duration(step) * time.Minute)
		tide := (1 - math.Cos(2*math.Pi*float64(step)/1440)) / 2
		rate := 40 + int((peak-40)*tide)
		for l, n := range map[*Lane]int{main: rate * 95 / 100, trial: rate * 5 / 100} {
			for i := range n {
				l.Observe(uint32(i), Observation{Class: sketch.Answered, Total: time.Millisecond})
				if l.Wants(200) {
					q, a := messages(dice.Float64(), "works", 2*tide-0.5+0.3*dice.NormFloat64())
					r.read(bodies{l, q, a})
				}
			}
		}
		r.Tick(at.Add(time.Second))
		e, _ := r.Evidence("demand-hourly")
		state, _ = guard.Step(terms, 2, []guard.TrialPair{pair}, state, e, at)
		for _, reading := range state.Trials[0].Readings {
			// With few rows it is chance that moves it.
			if reading.Signal == guard.PredictionDrift &&
				e[pair.Key()].Candidate.Outputs["demand_mw"].Seen() > 5000 {
				worst = max(worst, reading.Progress)
			}
		}
	}
	e, _ := r.Evidence("demand-hourly")
	p := e[pair.Key()]
	if a, b := p.Incumbent.Outputs["demand_mw"],
		p.Candidate.Outputs["demand_mw"]; a.Seen() < 100_000 || b.Seen() < 10_000 ||
		math.Abs(a.Mean()-b.Mean()) > 0.05 {
		t.Errorf("main: %d rows, mean %.3f; trial: %d rows, mean %.3f", a.Seen(), a.Mean(), b.Seen(), b.Mean())
	}
	last := state.Trials[0].Readings[slices.IndexFunc(state.Trials[0].Readings,
		func(r guard.Reading) bool { return r.Signal == guard.PredictionDrift })]
	if worst > 0.1 || !strings.Contains(last.Sentence, "with a largest gap of 0.0") {
		t.Errorf("the guard's progress came to %.3f, at the end %.3f: %s", worst, last.Progress, last.Sentence)
	}
}

// What is drawn and lost, what callers keep, and failures that repeat one, are told apart, over all shards and
// seconds, and stay so when they are stored.
func TestWhoseFailuresAreCounted(t *testing.T) {
	path := filepath.Join(t.TempDir(), "signals.db")
	r, store := start(t, path, 100)
	l := lane(r, "trial", "heat-demand@2")
	for second := range 3 {
		for i := range 40 {
			class, caller := sketch.Answered, uint64(7)
			if i < 12 {
				class = sketch.ServerError // three callers who fail four times each, on all shards
				caller = uint64(1 + i%3)
			}
			l.Observe(uint32(i), Observation{Class: class, Caller: caller})
		}
		for i := range 10 { // whoever is drawn is told apart from nobody
			l.Observe(uint32(i), Observation{Class: sketch.ServerError, Drawn: true, Lost: i < 4})
		}
		r.Tick(minute.Add(time.Duration(second+1) * time.Second))
	}
	flush(t, r)
	windows, err := store.Windows(t.Context(), signals.Query{
		Endpoint: "demand-hourly", From: minute, To: minute.Add(time.Minute),
	})
	if err != nil || len(windows) != 1 {
		t.Fatalf("%d windows, %v", len(windows), err)
	}
	c := windows[0].Summary.Counts
	if c.Requests != 150 || c.Failed() != 66 || c.Repeated != 27 || c.Drawn != 30 || c.Lost != 12 || c.Kept() != 120 {
		t.Errorf("%+v, %d kept", c, c.Kept())
	}
	of := func(version string) func(Key) bool {
		return func(k Key) bool { return k.Version == version && k.Lane != Pinned }
	}
	seconds := r.Seconds(of("heat-demand@2"))
	if len(seconds) != 3 || seconds[1].Repeated != 9 || len(r.Seconds(of("heat-demand@1"))) != 0 {
		t.Errorf("%+v", seconds)
	}
}

// Bodies of many rows, and large ones, are read less often; small ones as often as the
// budget says.
func TestTheBudgetOfReading(t *testing.T) {
	for name, c := range map[string]struct {
		answered, bytes, rows, values int
		want                          float64
	}{
		"few":         {50, 200, 1, 0, 1},
		"many":        {1000, 200, 1, 0, 0.1},
		"many rows":   {1000, 4000, 17, 0, 100.0 / 3 / 1000},
		"many values": {1000, 4000, 1, 3 * valuesForOne, 100.0 / 4 / 1000},
		"large":       {1000, 1 << 20, 1, 0, 100.0 * usualBody / (1 << 20) / 1000},
	} {
		s := newSampler(100)
		read := 0
		for range 20 {
			for range c.answered {
				if s.wants(c.bytes) {
					read++
					s.hasRead(c.rows, c.values)
				}
			}
			s.next(uint64(c.answered))
		}
		if p := s.probability(); math.Abs(p-c.want) > 0.01*c.want {
			t.Errorf("%s: read with %.4f, want %.4f", name, p, c.want)
		}
		if read == 0 || read > 20*100+400 {
			t.Errorf("%s: %d bodies were read in twenty seconds of a budget of 100", name, read)
		}
	}
}

// What an endpoint did by the minute, of all whom callers are dealt to.
func TestTheMinutesOfAnEndpoint(t *testing.T) {
	r, _ := start(t, filepath.Join(t.TempDir(), "signals.db"), 1000)
	main, pinned := lane(r, "main", "heat-demand@1"), lane(r, Pinned, "heat-demand@1")
	to := time.Now().UTC().Truncate(time.Minute)
	observe(r, main, to.Add(-150*time.Second), 3, sketch.Answered)
	observe(r, main, to.Add(-61*time.Second), 4, sketch.Answered)
	observe(r, main, to.Add(-60*time.Second), 5, sketch.ServerError)
	observe(r, pinned, to.Add(-30*time.Second), 6, sketch.Answered)
	observe(r, main, to.Add(time.Second), 7, sketch.Answered)
	var got []string
	for _, c := range r.Minutes("demand-hourly", to, 4) {
		got = append(got, fmt.Sprint(c.Requests, " ", c.Failed()))
	}
	if said := strings.Join(got, ", "); said != "0 0, 3 0, 4 0, 5 5" {
		t.Errorf("by the minute: %s", said)
	}
}

func BenchmarkObserve(b *testing.B) {
	r := New(quiet, 100)
	l := lane(r, "main", "heat-demand@1")
	shards := make(chan uint32, 64)
	for i := range uint32(64) {
		shards <- i
	}
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) {
		shard := <-shards
		for pb.Next() {
			l.Observe(shard, Observation{
				Class: sketch.Answered, Total: time.Millisecond, Backend: time.Millisecond,
				Drawn: true, Name: "district-desk", Count: true,
			})
		}
	})
}

// BenchmarkObserveBesideLargeBodies observes while the reader takes bodies of a megabyte
// apart without a pause, and reports how long the slowest observations took.
func BenchmarkObserveBesideLargeBodies(b *testing.B) {
	r := New(quiet, 100)
	r.Without()
	l := lane(r, "main", "heat-demand@1")
	body := []byte(`{"inputs":[{"name":"x","shape":[1000,125],"datatype":"FP64","data":[` +
		strings.Repeat("1234.5,", 124_999) + `1]}],"outputs":[]}`)
	ctx, cancel := context.WithCancel(b.Context())
	defer cancel()
	go func() {
		for ctx.Err() == nil {
			r.read(bodies{l, body, body})
		}
	}()
	took := make([]time.Duration, 0, 1<<20)
	for b.Loop() {
		begin := time.Now()
		l.Observe(1, Observation{Class: sketch.Answered, Total: time.Millisecond})
		if d := time.Since(begin); len(took) < cap(took) {
			took = append(took, d)
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*999/1000].Nanoseconds()), "ns-p99.9")
	b.ReportMetric(float64(took[len(took)-1].Nanoseconds()), "ns-max")
}
