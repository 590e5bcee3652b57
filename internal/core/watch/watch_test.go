package watch

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/stat/distuv"
)

var begin = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// usually is a look at a rate that is watched as usual.
func usually(name string, seen, bad float64) Look {
	r, _ := (&Set{}).rule(Parts(name))
	return Look{Signal: name, Rule: r, Seen: seen, Bad: bad, Allowed: r.Limit.Value, What: "requests failed"}
}

// watched looks at rates for so many looks of n requests each, and says after how many requests it fired; 0 when it
// did not.
func watched(r *rand.Rand, signal string, looks, n int, rate func(look int) float64) (fired int) {
	var s Stand
	for i := range looks {
		b := distuv.Binomial{N: float64(n), P: rate(i), Src: r}
		var turn Turn
		s, turn = Step(
			s,
			usually(signal, float64(n), b.Rand()),
			20,
			begin.Add(time.Duration(i)*Every),
		)
		if turn == Fires {
			return (i + 1) * n
		}
	}
	return 0
}

// At what is allowed, in half a day of looks, nothing fires; a column that goes missing is seen within 200
// requests, an outage within a look or two.
func TestRates(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 20 {
		if at := watched(r, ErrorRate, 10_000, 40, func(int) float64 { return 0.01 }); at > 0 {
			t.Errorf("it fired after %d requests at the rate that is allowed", at)
		}
	}
	for name, c := range map[string]struct {
		signal   string
		n        int
		rate     float64
		requests int
	}{
		"a column that goes missing":     {MissingRate + ".wind", 20, 1, 40},
		"a column missing in one of two": {MissingRate + ".wind", 20, 0.5, 200},
		"all fail":                       {ErrorRate, 10, 1, 20},
		"one in five fails":              {ErrorRate, 20, 0.2, 300},
		"one in twenty fails":            {ErrorRate, 20, 0.05, 2500},
		"every caller is turned away":    {RefusalRate, 10, 1, 20},
		"the wrong unit":                 {OutOfRangeRate + ".outdoor", 20, 0.6, 200},
	} {
		for range 20 {
			at := watched(r, c.signal, 2000, c.n, func(i int) float64 { return c.rate })
			if at == 0 || at > c.requests {
				t.Errorf("%s: seen after %d requests, want within %d", name, at, c.requests)
			}
		}
	}
}

// The mean number of looks to a false alarm is at least the bound: here with a bound that can be simulated.
func TestTheBudgetOfFalseAlarms(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	const bound = 200.0
	var sum float64
	const runs = 300
	for range runs {
		var s Stand
		for look := 1.0; ; look++ {
			k := distuv.Binomial{N: 30, P: 0.05, Src: r}.Rand()
			if s.add(evidence(30, k, 0.05)) >= math.Log(bound) {
				sum += look
				break
			}
		}
	}
	if mean := sum / runs; mean < bound {
		t.Errorf("a false alarm comes after %.0f looks on average, promised are %.0f", mean, bound)
	}
}

// It fires once, says so for as long as it is bad, resolves when all is well for long enough, and the longer the more
// often it has fired.
func TestFiringAndResolving(t *testing.T) {
	var s Stand
	at := begin
	look := func(bad float64) Turn {
		var turn Turn
		at = at.Add(Every)
		s, turn = Step(s, usually(ErrorRate, 50, bad), 3, at)
		return turn
	}
	until := func(bad float64, want Turn) time.Duration {
		t.Helper()
		from := at
		for range 2000 {
			if turn := look(bad); turn == want {
				return at.Sub(from)
			} else if turn != Stays {
				t.Fatalf("turned by %d: %+v", turn, s)
			}
		}
		t.Fatalf("never turned: %+v", s)
		return 0
	}
	if look(0); s.State != Quiet {
		t.Errorf("%+v", s)
	}
	until(25, Fires)
	if s.State != Firing || !strings.Contains(s.Sentence, "requests failed") {
		t.Errorf("%+v", s)
	}
	for range 100 {
		if look(25) != Stays {
			t.Fatalf("%+v", s)
		}
	}
	first := until(0, Resolves)
	until(25, Fires)
	if again := until(0, Resolves); first < calm || again < 2*first-Every {
		t.Errorf("calm after %s, then after %s", first, again)
	}
	if s.State != Quiet {
		t.Errorf("%+v", s)
	}
}

func TestPendingAndNotEnough(t *testing.T) {
	s, _ := Step(Stand{}, usually(ErrorRate, 5, 0), 3, begin)
	if s.State != NotEnough {
		t.Errorf("%+v", s)
	}
	s, _ = Step(s, usually(ErrorRate, 5, 2), 3, begin.Add(Every))
	for range 10 {
		if s.State == Pending {
			break
		}
		s, _ = Step(s, usually(ErrorRate, 5, 1), 3, begin.Add(Every))
	}
	if s.State != Pending || s.Progress <= 0 || s.Progress >= 1 {
		t.Errorf("%+v", s)
	}
	s, _ = Step(Stand{}, Look{Signal: SlowRate, Why: "not known yet"}, 3, begin)
	if s.State != NotEnough || s.Sentence != "not known yet" {
		t.Errorf("%+v", s)
	}
}

func TestOtherUnits(t *testing.T) {
	for _, c := range []struct {
		now  Spread
		want string
	}{
		{Spread{33.8, 14.4}, "Fahrenheit"},
		{Spread{274.15, 8}, "kelvin"},
		{Spread{1, 8}, ""},
		{Spread{1000, 8000}, "thousand"},
		{Spread{5, 8}, ""},
		{Spread{-9, 3}, ""},
	} {
		got := OtherUnit("outdoor", Spread{1, 8}, c.now)
		if (got == "") != (c.want == "") || !strings.Contains(got, c.want) {
			t.Errorf("%+v: %q", c.now, got)
		}
	}
}

// town is an endpoint whose callers send rows of which wind and outdoor are numbers.
type town struct {
	r         *rand.Rand
	reference map[string]*sketch.Column
	outputs   map[string]*sketch.Column
	w         Watched
	known     map[uint64]bool
	long      sketch.Content
	longFresh uint64
	at        time.Time
	requests  int
	changes   []Change
	// hour is what columns were in this hour of the weeks before.
	hour HourOfWeek
}

func newTown() *town {
	c := &town{r: rand.New(rand.NewPCG(7, 8)), at: begin, known: map[uint64]bool{}}
	column := func(draw func() float64) *sketch.Column {
		values := make([]float64, 20_000)
		for i := range values {
			values[i] = draw()
		}
		return sketch.ColumnOf(sketch.EqualFrequency(values, 20), values)
	}
	c.reference = map[string]*sketch.Column{
		"wind": column(
			func() float64 { return 4 + 2*c.r.NormFloat64() },
		), "outdoor": column(func() float64 { return 1 + 8*c.r.NormFloat64() }),
	}
	c.outputs = map[string]*sketch.Column{"demand": column(func() float64 { return 1 + 0.3*c.r.NormFloat64() })}
	return c
}

// look sends so many rows and says what turned.
func (c *town) look(n int, row func() (wind, outdoor any)) (fired []string) {
	content := sketch.Content{
		Rows:    uint64(n),
		Bodies:  uint64(n),
		Inputs:  map[string]*sketch.Column{},
		Outputs: map[string]*sketch.Column{},
	}
	for name, ref := range c.reference {
		content.Inputs[name] = sketch.NewColumn(ref.Bins)
	}
	content.Outputs["demand"] = sketch.NewColumn(c.outputs["demand"].Bins)
	fresh := uint64(0)
	for range n {
		wind, outdoor := row()
		content.Inputs["wind"].AddValue(wind)
		content.Inputs["outdoor"].AddValue(outdoor)
		content.Outputs["demand"].AddValue(1 + 0.3*c.r.NormFloat64())
		h := hash(fmt.Sprint(wind, outdoor))
		content.Distinct.AddHash(h)
		if !c.known[h] {
			fresh++
		}
		c.known[h] = true
	}
	c.requests += n
	c.long.Merge(&content)
	c.longFresh += fresh
	seen := &Seen{
		All: Part{Counts: sketch.Counts{Requests: uint64(n)}}, Content: content, Fresh: fresh,
	}
	if c.longFresh >= 500 {
		seen.Long, seen.LongFresh, seen.LongAt = &c.long, c.longFresh, c.at
	}
	c.at = c.at.Add(Every)
	before := map[string]bool{}
	for name, s := range c.w.Stands {
		before[name] = s.State == Firing
	}
	c.changes = append(c.changes, c.w.Step(&Set{}, seen, &Usual{
		Inputs: c.reference, Outputs: c.outputs, Hour: c.hour,
	}, c.at)...)
	for name, s := range c.w.Stands {
		if s.State == Firing && !before[name] {
			fired = append(fired, name)
		}
	}
	if seen.Long != nil {
		c.long, c.longFresh = sketch.Content{}, 0
	}
	return fired
}

func hash(s string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * 1099511628211
	}
	return h * 0x9e3779b97f4a7c15
}

func (c *town) usual() (wind, outdoor any) { return 4 + 2*c.r.NormFloat64(), 1 + 8*c.r.NormFloat64() }

// What a watch must see is seen within 2000 requests, and what it must not alarm about it does not.
func TestColumns(t *testing.T) {
	for name, c := range map[string]struct {
		row    func(*town) (wind, outdoor any)
		signal string
		within int
	}{
		"nothing is wrong": {(*town).usual, "", 0},
		"half a standard deviation": {func(c *town) (any, any) {
			w, o := c.usual()
			return w, o.(float64) + 4
		}, "feature_drift.outdoor", 2000},
		"degrees Fahrenheit": {func(c *town) (any, any) {
			w, o := c.usual()
			return w, 32 + 1.8*o.(float64)
		}, "out_of_range_rate.outdoor", 2000},
		"no wind": {func(c *town) (any, any) {
			_, o := c.usual()
			return nil, o
		}, "missing_rate.wind", 200},
		"the same two rows": {func(c *town) (any, any) { return 30.0, float64(60 + c.r.IntN(2)) }, "", 0},
	} {
		c0 := newTown()
		for range 40 { // some minutes as usual
			if fired := c0.look(100, c0.usual); len(fired) > 0 {
				t.Fatalf("%s: %v as usual", name, fired)
			}
		}
		c0.requests = 0
		seen := 0
		for range 200 {
			for _, s := range c0.look(100, func() (any, any) { return c.row(c0) }) {
				if c.signal == "" {
					t.Errorf("%s: %s fired after %d requests: %s", name, s, c0.requests, c0.w.Stands[s].Sentence)
				}
				if s == c.signal && seen == 0 {
					seen = c0.requests
				}
			}
		}
		// However many columns move, one alert is about the inputs.
		if len(c0.changes) > 1 || len(c0.changes) == 1 && c0.changes[0].Group != "inputs" {
			t.Errorf("%s: %+v", name, c0.changes)
		}
		if c.signal != "" && (seen == 0 || seen > c.within) {
			t.Errorf("%s: %s was seen after %d requests, want within %d: %+v", name, c.signal, seen, c.within,
				c0.w.Stands[c.signal])
		}
	}
}

// A column that callers leave out altogether goes missing as one does that is null, and another main begins anew.
func TestAColumnThatIsNotSent(t *testing.T) {
	c := newTown()
	for range 60 {
		if fired := c.look(100, c.usual); len(fired) > 0 {
			t.Fatal(fired)
		}
	}
	if s := c.w.Stands["feature_drift.wind"]; s.State != Quiet {
		t.Errorf("%+v", s)
	}
	seen := &Seen{Content: sketch.Content{Rows: 50, Inputs: map[string]*sketch.Column{
		"outdoor": sketch.ColumnOf(c.reference["outdoor"].Bins, make([]float64, 50)),
	}}, Fresh: 50}
	u := &Usual{Inputs: c.reference}
	var changes []Change
	for i := range 4 {
		changes = append(changes, c.w.Step(&Set{}, seen, u, c.at.Add(time.Duration(i+1)*Every))...)
	}
	if len(changes) != 1 || changes[0].Fires[0].Signal != "missing_rate.wind" {
		t.Errorf("%+v", changes)
	}
	c.w.Distrust()
	if _, there := c.w.Stands["feature_drift.wind"]; there || c.w.Stands["missing_rate.wind"].State != Firing ||
		len(c.w.Near) > 0 {
		t.Errorf("%+v", c.w)
	}
}

// What fires is not well because the same bad rows come again and again, and ends at last when nothing can be told.
func TestWhatFiresAndComesAgain(t *testing.T) {
	var s Stand
	at := begin
	look := func(l Look) Turn {
		var turn Turn
		at = at.Add(Every)
		s, turn = Step(s, l, 20, at)
		return turn
	}
	bad := Look{Signal: OutOfRangeRate + ".outdoor", Seen: 100, Bad: 60, Raw: 0.6}
	for s.State != Firing {
		look(bad)
	}
	again := Look{Signal: bad.Signal, Seen: 1, Bad: 0.6, Raw: 0.6, Why: "the same rows"}
	for range int(2 * recent / Every) {
		if look(again) != Stays {
			t.Fatalf("resolved while the same bad rows came: %+v", s)
		}
	}
	began := at
	for look(Look{Signal: bad.Signal, Why: "the same rows"}) != Resolves {
		if at.Sub(began) > 2*recent {
			t.Fatalf("it fires for ever: %+v", s)
		}
	}
	if at.Sub(began) < recent || s.State == Firing {
		t.Errorf("after %s: %+v", at.Sub(began), s)
	}
}

// A reference of a year says nothing about an hour: what is far from it from the beginning raises no alarm.
func TestAReferenceOfAnotherKind(t *testing.T) {
	c := newTown()
	for i := range 2000 {
		if fired := c.look(100, func() (any, any) {
			w, _ := c.usual()
			return w, -5 + float64(i)/400 + 0.5*c.r.NormFloat64()
		}); len(fired) > 0 {
			t.Fatalf("%v after %d requests", fired, c.requests)
		}
	}
	if s := c.w.Stands["feature_drift.outdoor"]; s.State != NotEnough || !strings.Contains(s.Sentence, "a year") {
		t.Errorf("%+v", s)
	}
	if s := c.w.Stands["feature_drift.wind"]; s.State != Quiet {
		t.Errorf("%+v", s)
	}
	if list := c.w.List(); list[0].State != Quiet || c.w.Is(FeatureDrift) {
		t.Errorf("%+v", list)
	}
}

func TestSilence(t *testing.T) {
	busy := Quietest{Hours: 40, Fewest: 360}
	for _, c := range []struct {
		name   string
		silent time.Duration
		known  Quietest
		was    State
		want   State
	}{
		{"called just now", 0, busy, Quiet, Quiet},
		{"a moment", 4 * time.Minute, busy, Quiet, Quiet},
		{"too long", 6 * time.Minute, busy, Quiet, Firing},
		{"still", 9 * time.Minute, busy, Firing, Firing},
		{"called again", 0, busy, Firing, Quiet},
		{"a night without calls is usual", 9 * time.Hour, Quietest{Hours: 40}, Quiet, NotEnough},
		{"no day is known", 9 * time.Hour, Quietest{Hours: 5, Fewest: 1000}, Quiet, NotEnough},
	} {
		s := silence(Stand{Signal: RequestRate, State: c.was, Since: begin}, c.silent, c.known, begin.Add(time.Hour))
		if s.State != c.want || s.Sentence == "" || (s.State != c.was) != s.Since.After(begin) {
			t.Errorf("%s: %+v", c.name, s)
		}
	}
	var w Watched
	seen := &Seen{Silent: time.Hour}
	if c := w.Step(&Set{}, seen, &Usual{Quietest: busy}, begin); len(c) != 1 || c[0].Group != RequestRate ||
		len(c[0].Fires) != 1 {
		t.Errorf("%+v", c)
	}
	if c := w.Step(&Set{}, seen, &Usual{Quietest: busy}, begin.Add(Every)); len(c) != 0 {
		t.Errorf("%+v", c)
	}
	if c := w.Step(&Set{}, &Seen{}, &Usual{Quietest: busy}, begin.Add(2*Every)); len(c) != 1 || !c[0].Resolved {
		t.Errorf("%+v", c)
	}
	if w.State(Known{Healthy: true}) != NoTraffic ||
		w.State(Known{Healthy: true, Called: true, Trial: true}) != OnTrial ||
		w.State(Known{}) != Unhealthy || w.State(Known{Healthy: true, Called: true}) != Well {
		t.Error("the states of an endpoint")
	}
}

// Trouble that is nearly all of one caller's is said to be, but not where that caller sends most requests anyway, gives
// no name, or where there is too little of it.
func TestOneCaller(t *testing.T) {
	failed := func(c request.Calls) uint64 { return c.Failed }
	for name, c := range map[string]struct {
		calls map[string]request.Calls
		says  string
	}{
		"one": {
			map[string]request.Calls{"desk": {Requests: 900}, "robot": {Requests: 100, Failed: 90}},
			"90 of 90 that failed are of robot, who sends 10 % of the requests.",
		},
		"nearly": {
			map[string]request.Calls{"desk": {Requests: 900, Failed: 10}, "robot": {Requests: 100, Failed: 50}},
			"robot",
		},
		"the largest": {map[string]request.Calls{"desk": {Requests: 900, Failed: 90}, "robot": {Requests: 100}}, ""},
		"both": {
			map[string]request.Calls{"desk": {Requests: 500, Failed: 90}, "b": {Requests: 500, Failed: 80}}, "",
		},
		"nobody by name": {
			map[string]request.Calls{"a": {Requests: 90}, request.Unnamed: {Requests: 9, Failed: 90}}, "",
		},
		"hardly any":      {map[string]request.Calls{"a": {Requests: 90}, "robot": {Requests: 9, Failed: 9}}, ""},
		"nothing is said": {nil, ""},
	} {
		if says := OneCaller(c.calls, "failed", failed); !strings.Contains(says, c.says) ||
			(says == "") != (c.says == "") {
			t.Errorf("%s: %q, want %q", name, says, c.says)
		}
	}
}
