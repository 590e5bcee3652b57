package watch

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/span"

	"gonum.org/v1/gonum/stat/distuv"
)

func limit(t *testing.T, text string) (l Limit) {
	t.Helper()
	if err := l.UnmarshalText([]byte(text)); err != nil {
		t.Fatal(err)
	}
	return l
}

func TestLimits(t *testing.T) {
	for text, want := range map[string]string{
		"1 %": "1 %", "0.05%": "0.05 %", "200ms": "200ms", "1.5s": "1.5s", "0.2": "0.2", "0 %": "0 %", "": "",
	} {
		l := limit(t, text)
		if l.String() != want || l.Given != (text != "") {
			t.Errorf("%q: %q, %+v", text, l, l)
		}
	}
	for _, text := range []string{"much", "-1 %", "-3s", "1e300", "NaN", "1 % 2"} {
		if err := new(Limit).UnmarshalText([]byte(text)); !fault.Is(err, fault.Invalid) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// A rule is said in a sentence, and is the same after it was sent as JSON.
func TestRulesInWords(t *testing.T) {
	for want, r := range map[string]Rule{
		"Tell when error_rate is above 2 %.": {Signal: ErrorRate, Limit: Percent(2)},
		"Go back when latency_p99 is above 200ms, and above 1.5 times what it was in the day before, after 500 " +
			"requests, for 10m.": {
			Signal: "latency_p99", Limit: limit(t, "200ms"), Versus: Yesterday, Times: 1.5, Least: 500,
			For: span.Duration(10 * time.Minute), Then: guard.RollBack,
		},
		"Hold the rollout when error_rate of the trial is above 2 times what it is of main.": {
			Signal: ErrorRate, Versus: Main, Times: 2, Then: guard.Hold,
		},
		"Tell when request_rate is below 2 a second, and below 0.5 times what it was a week ago.": {
			Signal: RequestRate, Limit: limit(t, "2"), Versus: LastWeek, Times: 0.5,
		},
		"missing_rate.wind is not watched.": {Signal: "missing_rate.wind", Off: true},
	} {
		if got := r.String(); got != want {
			t.Errorf("%s\n%s", got, want)
		}
		raw, err := json.Marshal(Set{Watches: []Rule{r}})
		var again Set
		if err != nil || json.Unmarshal(raw, &again) != nil || !reflect.DeepEqual(again.Watches[0], r) {
			t.Errorf("%s: %+v", raw, again)
		}
		if err := r.CheckAlone(); err != nil {
			t.Error(err)
		}
	}
}

// at is the field that an error names.
func at(err error) string {
	var f *fault.Fault
	errors.As(err, &f)
	return f.Field
}

func TestRulesThatCannotBeFollowed(t *testing.T) {
	good := Rule{Signal: ErrorRate, Limit: Percent(1)}
	with := func(change func(*Rule)) Rule {
		r := good
		change(&r)
		return r
	}
	for field, r := range map[string]Rule{
		"signal of ours":     {Signal: "wrath", Limit: Percent(1)},
		"signal's column":    {Signal: "error_rate.wind", Limit: Percent(1)},
		"signal with a dot":  {Signal: "missing_rate.", Limit: Percent(1)},
		"limit's unit":       {Signal: ErrorRate, Limit: limit(t, "200ms")},
		"limit's unit too":   {Signal: "latency_p99", Limit: Percent(1)},
		"limit of drift":     {Signal: FeatureDrift, Limit: Percent(1)},
		"limit over all":     {Signal: ErrorRate, Limit: limit(t, "101 %")},
		"limit of nothing":   {Signal: ErrorRate},
		"limit of 0":         {Signal: "latency_p50", Limit: limit(t, "0s")},
		"versus the moon":    with(func(r *Rule) { r.Versus, r.Times = "moon", 2 }),
		"versus of drift":    {Signal: FeatureDrift, Versus: Yesterday, Times: 2},
		"versus main":        {Signal: RefusalRate, Versus: Main, Times: 2},
		"times of what":      with(func(r *Rule) { r.Times = 2 }),
		"times of drift":     {Signal: FeatureDrift, Limit: limit(t, "0.2"), Times: 2},
		"times not said":     with(func(r *Rule) { r.Versus = Yesterday }),
		"least below 0":      with(func(r *Rule) { r.Least = -1 }),
		"for a week":         with(func(r *Rule) { r.For = span.Duration(200 * time.Hour) }),
		"then weep":          with(func(r *Rule) { r.Then = "weep" }),
		"then of the inputs": {Signal: MissingRate, Limit: Percent(1), Then: guard.RollBack},
		"off with a limit":   with(func(r *Rule) { r.Off = true }),
		"signal that hides":  {Signal: "missing_rate.wi\u202end", Limit: Percent(1)},
		"about a bell":       with(func(r *Rule) { r.About = "ring\a" }),
		"about everything":   with(func(r *Rule) { r.About = strings.Repeat("x", 301) }),
	} {
		err := r.CheckAlone()
		name, _, _ := strings.Cut(strings.ReplaceAll(field, "'s", ""), " ")
		if !fault.Is(err, fault.Invalid) || at(err) != name {
			t.Errorf("%s: %v, at %s", field, err, at(err))
		}
	}
	for field, s := range map[string]Set{
		"watches[1].signal": {Watches: []Rule{good, good}},
		"watches[0].then":   {Watches: []Rule{with(func(r *Rule) { r.Then = "weep" })}},
		"owner":             {Owner: "a\nb"},
		"runbook":           {Runbook: "javascript:alert(1)"},
		"watches":           {Watches: make([]Rule, 101)},
	} {
		if err := s.Check(); !fault.Is(err, fault.Invalid) || at(err) != field {
			t.Errorf("%s: %v, at %s", field, err, at(err))
		}
	}
	ok := Set{
		Owner: "dispatch", Runbook: "https://wiki.tarnholm.example/demand",
		Watches: []Rule{good, {Signal: ErrorRate, Versus: Main, Times: 2}, {Signal: "missing_rate.a.b", Off: true}},
	}
	if err := ok.Check(); err != nil {
		t.Error(err)
	}
}

// played has an endpoint watched by a set for so many looks of 50 requests, and gives what followed.
func played(w *Watched, set *Set, looks int, u *Usual, from time.Time, look func(i int, s *Seen)) (out []Change) {
	for i := range looks {
		s := &Seen{All: Part{Counts: sketch.Counts{Requests: 50}}, Took: Every}
		look(i, s)
		out = append(out, w.Step(set, s, u, from.Add(time.Duration(i)*Every))...)
	}
	return out
}

func took(n int, d time.Duration) (q sketch.Quantiles) {
	for range n {
		q.Add(d)
	}
	return q
}

// plays are rules, what an endpoint does under them, and what must be said then.
type play struct {
	rule  Rule
	look  func(int, *Seen)
	usual Usual
	says  string // empty where nothing may be said
}

// fires plays each, and holds what is said against what should be.
func fires(t *testing.T, plays map[string]play) {
	t.Helper()
	for name, c := range plays {
		var w Watched
		changes := played(&w, &Set{Watches: []Rule{c.rule}}, 300, &c.usual, begin, c.look)
		said := ""
		for _, ch := range changes {
			for _, f := range ch.Fires {
				if f.Signal == c.rule.Name() {
					said = f.Sentence
				}
			}
		}
		if (said == "") != (c.says == "") || !strings.Contains(said, c.says) {
			t.Errorf("%s: %q, %+v", name, said, w.Stands[c.rule.Name()])
		}
	}
}

func slow60(_ int, s *Seen)   { s.All.Latency = took(50, 60*time.Millisecond) }
func failing3(_ int, s *Seen) { s.All.Counts.ServerErrors = 3 }
func trial3(_ int, s *Seen) {
	s.Trial = Part{Counts: sketch.Counts{Requests: 25, ServerErrors: 3}, Latency: took(25, time.Second)}
}

func pastOf() *Past {
	p := &Past{Counts: sketch.Counts{Requests: 5000, ServerErrors: 50}, PerSecond: 10, Latency: &sketch.Quantiles{}}
	p.Latency.Add(20 * time.Millisecond)
	return p
}

// Latency is held against a time, or what it was: as the share that may take longer.
func TestRulesOfLatency(t *testing.T) {
	past := pastOf()
	fires(t, map[string]play{
		"slower than a limit": {
			Rule{Signal: "latency_p95", Limit: limit(t, "50ms")},
			slow60,
			Usual{},
			"longer than 50 ms",
		},
		"as quick as is allowed": {
			Rule{Signal: "latency_p95", Limit: limit(t, "61ms")},
			slow60,
			Usual{},
			"",
		},
		"slower than yesterday": {
			Rule{Signal: "latency_p95", Versus: Yesterday, Times: 2},
			slow60,
			Usual{Yesterday: past},
			"longer than 39.73 ms",
		},
		"as slow as last week": {
			Rule{Signal: "latency_p95", Versus: LastWeek, Times: 4},
			slow60,
			Usual{LastWeek: past},
			"",
		},
		"last week is not known": {
			Rule{Signal: "latency_p95", Versus: LastWeek, Times: 2},
			slow60,
			Usual{Yesterday: past},
			"",
		},
		"the trial is slower": {
			Rule{Signal: "latency_p50", Versus: Main, Times: 2},
			trial3,
			Usual{Main: past},
			"requests of the trial took",
		},
	})
}

// Too few requests are told, and not where it is not known how evenly they come.
func TestRulesOfRequestRate(t *testing.T) {
	past := pastOf()
	fires(t, map[string]play{
		"too few requests": {
			Rule{Signal: RequestRate, Limit: limit(t, "20")},
			failing3,
			Usual{Dispersion: 1},
			"at least 20 a second are wanted",
		},
		"as many as are wanted": {
			Rule{Signal: RequestRate, Limit: limit(t, "9")},
			failing3,
			Usual{Dispersion: 1},
			"",
		},
		"fewer than a week ago": {
			Rule{Signal: RequestRate, Versus: LastWeek, Times: 2},
			failing3,
			Usual{LastWeek: past, Dispersion: 2},
			"at least 20 a second",
		},
		"how even is not known": {
			Rule{Signal: RequestRate, Limit: limit(t, "20")},
			failing3,
			Usual{},
			"",
		},
	})
}

// Rates are held against a limit, what they were, or main; after enough and for long enough.
func TestRulesOfRates(t *testing.T) {
	past := pastOf()
	fires(t, map[string]play{
		"beyond a limit": {
			Rule{Signal: ErrorRate, Limit: Percent(2)},
			failing3,
			Usual{},
			"6.0 % of ",
		},
		"within a limit": {
			Rule{Signal: ErrorRate, Limit: Percent(7)},
			failing3,
			Usual{},
			"",
		},
		"within times last week": {
			Rule{Signal: ErrorRate, Limit: Percent(1), Versus: LastWeek, Times: 7},
			failing3,
			Usual{LastWeek: past},
			"",
		},
		"the trial against main": {
			Rule{Signal: ErrorRate, Versus: Main, Times: 2},
			trial3,
			Usual{Main: past},
			"of the trial failed",
		},
		"main is not known": {
			Rule{Signal: ErrorRate, Versus: Main, Times: 2},
			trial3,
			Usual{},
			"",
		},
		"not after enough": {
			Rule{Signal: ErrorRate, Limit: Percent(2), Least: 100_000},
			failing3,
			Usual{},
			"",
		},
		"not for long enough": {
			Rule{Signal: ErrorRate, Limit: Percent(2), For: span.Duration(time.Hour)},
			failing3,
			Usual{},
			"",
		},
		"after long enough": {
			Rule{Signal: ErrorRate, Limit: Percent(2), For: span.Duration(5 * time.Minute)},
			failing3,
			Usual{},
			"failed",
		},
		"what is off says naught": {
			Rule{Signal: ErrorRate, Off: true},
			failing3,
			Usual{},
			"",
		},
	})
}

// Where requests come in bursts, as many as are wanted on the whole, nobody is told that too few come.
func TestBurstsAreNotTooFew(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	rule := Rule{Signal: RequestRate, Limit: Limit{Value: 8, Given: true}}
	// All come in one second of a minute: the counts of a minute vary by 10 %.
	u := &Usual{Dispersion: 6}
	var w Watched
	fired := played(&w, &Set{Watches: []Rule{rule}}, 20_000, u, begin, func(i int, s *Seen) {
		s.All.Counts = sketch.Counts{}
		if i%12 == 7 {
			s.All.Counts.Requests = uint64(distuv.Normal{Mu: 600, Sigma: 60, Src: r}.Rand())
		}
	})
	if len(fired) > 0 {
		t.Errorf("%+v", fired)
	}
}

// Another rule begins anew, and what is not watched any more is resolved.
func TestRulesChange(t *testing.T) {
	var w Watched
	failing := func(_ int, s *Seen) { s.All.Counts.ServerErrors = 3 }
	strict := &Set{Watches: []Rule{{Signal: ErrorRate, Limit: Percent(1), Then: guard.Hold, About: "ring the desk"}}}
	changes := played(&w, strict, 100, &Usual{}, begin, failing)
	if len(changes) != 1 {
		t.Fatalf("%+v", changes)
	}
	if then, s := changes[0].Response(); then != guard.Hold || s.About != "ring the desk" {
		t.Errorf("%s, %+v", then, s)
	}
	at := begin.Add(time.Hour)
	mild := &Set{Watches: []Rule{{Signal: ErrorRate, Limit: Percent(20)}}}
	if c := played(&w, mild, 1, &Usual{}, at, failing); len(c) != 1 || !c[0].Resolved {
		t.Errorf("%+v", c)
	}
	played(&w, strict, 100, &Usual{}, at.Add(time.Minute), failing)
	off := mild.With(Rule{Signal: ErrorRate, Off: true})
	if c := played(&w, &off, 1, &Usual{}, at.Add(time.Hour), failing); len(c) != 1 || !c[0].Resolved {
		t.Errorf("%+v", c)
	}
	if _, there := w.Stands[ErrorRate]; there || off.Needs(Main) {
		t.Errorf("%+v", w.Stands)
	}
	if again := off.Without(ErrorRate); len(again.Watches) != 0 || len(again.Effective()) != len(Usually()) {
		t.Errorf("%+v", again)
	}
}

// What follows is not forgotten when another watch of the same alert has fired before.
func TestSternerWatchOfTheSameAlert(t *testing.T) {
	w := Watched{Stands: map[string]Stand{
		"prediction_drift.a": {Signal: "prediction_drift.a", State: Firing},
		"prediction_drift.b": {Signal: "prediction_drift.b", State: Firing, Then: guard.RollBack},
	}}
	before := map[string]bool{"predictions": true}
	if c := w.changes([]Stand{w.Stands["prediction_drift.a"]}, before); len(c) != 0 {
		t.Errorf("%+v", c)
	}
	c := w.changes([]Stand{w.Stands["prediction_drift.b"]}, before)
	if len(c) != 1 || len(c[0].Fires) != 1 {
		t.Fatalf("%+v", c)
	}
	if then, s := c[0].Response(); then != guard.RollBack || s.Signal != "prediction_drift.b" {
		t.Errorf("%+v", c)
	}
}

// Predictions that are worse than at registration, or than a limit, are told; as good ones never are.
func TestRulesOfAccuracy(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	numbers := func(scale float64) func(int, *Seen) {
		return func(_ int, s *Seen) {
			errors := make([]float64, 20)
			for i := range errors {
				errors[i] = scale * 0.1 * r.ExpFloat64() // 0.1 on average
			}
			s.Truths = map[string]Truths{"demand": {Number: true, Errors: errors}}
		}
	}
	classes := func(share float64) func(int, *Seen) {
		return func(_ int, s *Seen) {
			errors := make([]float64, 20)
			for i := range errors {
				if r.Float64() < share {
					errors[i] = 1
				}
			}
			s.Truths = map[string]Truths{"fault": {Errors: errors}}
		}
	}
	registered := Usual{Metrics: map[string]float64{MAE: 0.1, Accuracy: 0.9}}
	mae := Rule{Signal: MAE, Versus: Registered, Times: 1.2}
	fires(t, map[string]play{
		"worse than registered": {
			Rule{Signal: "mae.demand", Versus: Registered, Times: 1.2},
			numbers(1.6), registered, "demand were off by 0.1",
		},
		"worse than a limit": {
			Rule{Signal: "mae.demand", Limit: limit(t, "0.05")},
			numbers(1),
			Usual{},
			"0.05 is allowed",
		},
		"as good as is allowed": {
			Rule{Signal: "mae.demand", Versus: Registered, Times: 1.2},
			numbers(1.2), registered, "",
		},
		"of another output":      {Rule{Signal: "mae.heat", Limit: limit(t, "0.05")}, numbers(1), Usual{}, ""},
		"nothing was registered": {Rule{Signal: "mae.demand", Versus: Registered, Times: 2}, numbers(9), Usual{}, ""},
		"classes that are wrong": {
			Rule{Signal: "accuracy.fault", Limit: limit(t, "90 %")},
			classes(0.2),
			Usual{},
			"% of ",
		},
		"as right as is wanted": {Rule{Signal: "accuracy.fault", Limit: limit(t, "90 %")}, classes(0.1), Usual{}, ""},
		"more wrong than registered": {
			Rule{Signal: "accuracy.fault", Versus: Registered, Times: 1.5},
			classes(0.3), registered, "predictions of fault were wrong",
		},
	})
	// A rule without an output is of all of them, in an alert of their own.
	var w Watched
	changes := played(&w, &Set{Watches: []Rule{mae}}, 100, &registered, begin, numbers(2))
	if len(changes) != 1 || changes[0].Group != "accuracy" || changes[0].Fires[0].Signal != "mae.demand" {
		t.Errorf("%+v", changes)
	}
	for want, r := range map[string]Rule{
		"Tell when mae is above 1.2 times what it was at registration.": mae,
		"Tell when accuracy is below 90 %.":                             {Signal: Accuracy, Limit: Percent(90)},
		"Tell when accuracy is below what makes 2 times as many wrong as at registration.": {
			Signal: Accuracy, Versus: Registered, Times: 2,
		},
	} {
		if r.String() != want || r.CheckAlone() != nil {
			t.Errorf("%s, %v", r, r.CheckAlone())
		}
	}
}
