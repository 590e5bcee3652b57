package elsewhere

import (
	"math"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/sketch"
)

var now = time.Date(2026, 3, 4, 12, 0, 30, 0, time.UTC)

// good is a batch with all that one may have.
func good() Batch {
	column := sketch.ColumnOf(sketch.Bins{Edges: []float64{0, 1, 2}}, []float64{0.5, 1.5, 7})
	w := Window{
		Version: "heat-demand@1", Minute: now.Truncate(time.Minute),
		Counts:  Counts{Requests: 5, CallerErrors: 1, TimedOut: 1},
		Latency: []Took{{MS: 3, N: 3}, {MS: 8, N: 1}}, TookMS: 17.5, Bodies: 3, Rows: 3,
		Inputs: map[string]*sketch.Column{"outdoor_c": column}, Forms: []Form{{"demand_mw", "FP64", 3}},
	}
	for i := range uint64(3) {
		w.Different.Add(i * 0x9e3779b97f4a7c15)
		w.Callers.Add(7)
	}
	return Batch{Number: 1, Name: "substation-7", Windows: []Window{w}}
}

func TestWhatIsNoBatch(t *testing.T) {
	if b := good(); b.Check(now) != nil {
		t.Fatalf("a good one: %v", b.Check(now))
	}
	later := now.Truncate(time.Minute).Add(time.Hour)
	column := func(b *Batch) *sketch.Column { return b.Windows[0].Inputs["outdoor_c"] }
	for what, change := range map[string]func(*Batch){
		"elsewhere.number batches begin at 1":        func(b *Batch) { b.Number = 0 },
		"elsewhere.name no name":                     func(b *Batch) { b.Name = "" },
		"elsewhere.name a name that cannot be seen":  func(b *Batch) { b.Name = "a\u202eb" },
		"elsewhere.windows too many":                 func(b *Batch) { b.Windows = make([]Window, MostWindows+1) },
		"elsewhere.waiting fewer than none":          func(b *Batch) { b.Waiting = -1 },
		"elsewhere.ahead still to come":              func(b *Batch) { b.Windows[0].Minute = later },
		"elsewhere.window half a minute":             func(b *Batch) { b.Windows[0].Minute = now },
		"elsewhere.window more failed than asked":    func(b *Batch) { b.Windows[0].Counts.ServerErrors = 9 },
		"elsewhere.window failures that overflow":    func(b *Batch) { b.Windows[0].Counts.Malformed = math.MaxUint64 },
		"elsewhere.window more than a minute has":    func(b *Batch) { b.Windows[0].Counts.Requests = 1 << 50 },
		"elsewhere.window more times than requests":  func(b *Batch) { b.Windows[0].Latency[0].N = 9 },
		"elsewhere.window times that are no numbers": func(b *Batch) { b.Windows[0].Latency[0].MS = math.NaN() },
		"elsewhere.window times before they began":   func(b *Batch) { b.Windows[0].Latency[0].MS = -1 },
		"elsewhere.window a sum that is none":        func(b *Batch) { b.Windows[0].TookMS = math.Inf(1) },
		"elsewhere.window more bodies than requests": func(b *Batch) { b.Windows[0].Bodies = 9 },
		"elsewhere.window half a hash":               func(b *Batch) { b.Windows[0].Different = make(Hashes, 7) },
		"elsewhere.window more hashes than rows":     func(b *Batch) { b.Windows[0].Different = make(Hashes, 80) },
		"elsewhere.window more callers than asked":   func(b *Batch) { b.Windows[0].Callers = make(Hashes, 80) },
		"elsewhere.window forms of nothing":          func(b *Batch) { b.Windows[0].Forms[0].N = 9 },
		"elsewhere.window more values than rows":     func(b *Batch) { column(b).Counts[0] = 9 },
		"elsewhere.window counts without bins":       func(b *Batch) { column(b).Bins = sketch.Bins{} },
		"elsewhere.window fewer counts than bins":    func(b *Batch) { column(b).Counts = nil },
		"elsewhere.window edges that descend":        func(b *Batch) { column(b).Bins.Edges = []float64{2, 1, 0} },
		"elsewhere.window sums that are no numbers":  func(b *Batch) { column(b).Sums[1] = math.NaN() },
		"elsewhere.window fewer sums than bins":      func(b *Batch) { column(b).Sums = nil },
		"elsewhere.window a column that is none":     func(b *Batch) { b.Windows[0].Inputs["y"] = nil },
		"elsewhere.window a name that is too long": func(b *Batch) {
			b.Windows[0].Outputs = map[string]*sketch.Column{strings.Repeat("y", 200): b.Windows[0].Inputs["outdoor_c"]}
		},
	} {
		b := good()
		change(&b)
		code, _, _ := strings.Cut(what, " ")
		if got := fault.Code(b.Check(now)); got != code {
			t.Errorf("%s: %q", what, got)
		}
	}
}

func TestAWindowIsKeptAsAllAre(t *testing.T) {
	b := good()
	s := b.Windows[0].Summary()
	c := s.Counts
	if c.Requests != 5 || c.Failed() != 1 || c.CallerErrors != 1 || s.Latency.Count() != 4 ||
		s.Latency.Sum() != 17500*time.Microsecond || s.Content.Rows != 3 || s.Content.Distinct.Count() != 3 ||
		s.Callers.Count() != 1 || s.Content.Inputs["outdoor_c"].Over != 1 || s.Content.Forms.Answers != 3 ||
		s.Content.Forms.Of(sketch.Form{Name: "demand_mw", Datatype: "FP64"}) != 3 || s.Probability() != 1 {
		t.Errorf("it is kept as %+v", s)
	}
	if q := s.Latency.At(0.5); q < 2900*time.Microsecond || q > 3100*time.Microsecond {
		t.Errorf("half took up to %s", q)
	}
}

// What is taken out of a sketch and put into another makes the same sketch.
func TestTimesAreTheSame(t *testing.T) {
	var q sketch.Quantiles
	for i := range 10_000 {
		q.Add(time.Duration(math.Exp(float64(i%2000)/120)) * time.Microsecond)
	}
	var w Window
	w.Took(&q)
	w.Counts.Requests = 10_000
	back := w.Summary().Latency
	for p := 0.0; p <= 1; p += 0.001 {
		if q.At(p) != back.At(p) {
			t.Fatalf("the %.3f quantile is %s, and was %s", p, back.At(p), q.At(p))
		}
	}
}
