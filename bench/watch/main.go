// Watch simulates an endpoint over weeks and months, and counts how often its watches raise an alarm where nothing is
// wrong, and how soon they see what is.
//
// Traffic follows the hours of the day and the days of the week, and so do some columns; failures come now and
// then, and sometimes in bursts. The reference is of a whole year.
package main

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"sort"
	"strings"
	"sync"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/watch"

	"gonum.org/v1/gonum/stat/distuv"
)

var begin = time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC) // a Monday

// row is what callers send at a moment: what has seasons, what has a weekly habit, and what has neither.
func row(r *rand.Rand, at time.Time) map[string]any {
	hour := float64(at.Hour()) + float64(at.Minute())/60
	day := math.Cos(2 * math.Pi * (hour - 15) / 24)
	year := math.Cos(2 * math.Pi * float64(at.YearDay()-200) / 365)
	weekend := at.Weekday() == time.Saturday || at.Weekday() == time.Sunday
	mix := []string{"old-town", "harbour", "terraces", "works"}[r.IntN(4)]
	if weekend && mix == "works" && r.IntN(2) == 0 {
		mix = "old-town"
	}
	demand := 1 - 0.3*day
	if weekend {
		demand *= 0.8
	}
	return map[string]any{
		"outdoor": 8 + 10*year + 3*day + 2*r.NormFloat64(), "wind": 5 * math.Exp(0.4*r.NormFloat64()),
		"hour": math.Floor(hour), "mix": mix, "demand": demand + 0.2*r.NormFloat64(), "age": float64(r.IntN(30)),
		"pressure": 40 + 6*r.NormFloat64(), "flow": math.Abs(12 + 5*r.NormFloat64()),
	}
}

var numbers = []string{"outdoor", "wind", "hour", "demand", "age", "pressure", "flow"}

// longRows is by how many rows a distribution is judged, as in the service.
var longRows = 500

// endpoint is one simulated endpoint.
type endpoint struct {
	r         *rand.Rand
	reference map[string]*sketch.Column
	w         watch.Watched
	known     [2]map[uint64]bool
	long      sketch.Content
	longFresh uint64
	longAt    time.Time
	// hours are those of the last weeks, by when they began; hour is what they say about this one.
	hours    map[time.Time]*sketch.Content
	hour     watch.HourOfWeek
	alarms   []string
	requests int
	burst    int
}

func newEndpoint(seed uint64) *endpoint {
	e := &endpoint{r: rand.New(rand.NewPCG(seed, 99)), reference: map[string]*sketch.Column{}}
	values := map[string][]float64{}
	mixes := map[string]uint64{}
	for range 20_000 {
		q := row(e.r, begin.Add(time.Duration(e.r.Int64N(int64(365*24*time.Hour)))))
		for _, n := range numbers {
			values[n] = append(values[n], q[n].(float64))
		}
		mixes[q["mix"].(string)]++
	}
	for n, v := range values {
		e.reference[n] = sketch.ColumnOf(sketch.EqualFrequency(v, 20), v)
	}
	var all []any
	for m, k := range mixes {
		for range k {
			all = append(all, m)
		}
	}
	e.reference["mix"] = sketch.NewColumn(sketch.BinsOfValues(all))
	for _, m := range all {
		e.reference["mix"].AddValue(m)
	}
	return e
}

// usual is what was usual in the day before, as the service would know it.
var usual = &watch.Past{Counts: sketch.Counts{Requests: 1_000_000, ServerErrors: 1000}}

// look sends n rows at a moment, each as change makes it, of which a share fails.
func (e *endpoint) look(at time.Time, n int, failing float64, change func(map[string]any)) {
	c := sketch.Content{Rows: uint64(n), Inputs: map[string]*sketch.Column{}}
	for name, ref := range e.reference {
		c.Inputs[name] = sketch.NewColumn(ref.Bins)
	}
	fresh := uint64(0)
	failed := 0
	for range n {
		q := row(e.r, at)
		if change != nil {
			change(q)
		}
		h := uint64(0)
		for name, v := range q {
			c.Inputs[name].AddValue(v)
			if x, ok := v.(float64); ok {
				h += math.Float64bits(x) * 0x9e3779b97f4a7c15
			}
		}
		if !e.known[0][h] && !e.known[1][h] {
			fresh++
		}
		if e.known[0] == nil || len(e.known[0]) > 16<<10 {
			e.known = [2]map[uint64]bool{{}, e.known[0]}
		}
		e.known[0][h] = true
		c.Distinct.AddHash(h)
		if e.r.Float64() < failing {
			failed++
		}
	}
	e.requests += n
	seen := &watch.Seen{
		All: watch.Part{Counts: sketch.Counts{Requests: uint64(n), ServerErrors: uint64(failed)}}, Content: c,
		Fresh: fresh, Took: watch.Every,
	}
	turned := e.long.Rows > 0 && at.Truncate(time.Hour).After(e.longAt.Truncate(time.Hour))
	gather := func() {
		if e.long.Rows == 0 {
			e.longAt = at
		}
		e.long.Merge(&c)
		e.longFresh += fresh
	}
	if !turned {
		gather()
	}
	if turned || e.longFresh >= uint64(longRows) {
		seen.Long, seen.LongFresh, seen.LongAt = &e.long, e.longFresh, e.longAt
	}
	e.keepHour(at, &c)
	u := &watch.Usual{Yesterday: usual, Inputs: e.reference, Hour: e.hour}
	for _, ch := range e.w.Step(&watch.Set{}, seen, u, at) {
		if !ch.Resolved {
			e.alarms = append(e.alarms, ch.Fires[0].Signal)
		}
	}
	if seen.Long != nil {
		e.long, e.longFresh = sketch.Content{}, 0
	}
	if turned {
		gather()
	}
}

// keepHour adds to the hour that goes on, and looks up what the same hour was in the weeks before when it is another.
func (e *endpoint) keepHour(at time.Time, c *sketch.Content) {
	hour := at.Truncate(time.Hour)
	if e.hours == nil {
		e.hours = map[time.Time]*sketch.Content{}
	}
	if e.hours[hour] == nil {
		e.hours[hour] = &sketch.Content{}
		var weeks []sketch.Content
		for k := 1; k <= watch.Weeks; k++ {
			if then := e.hours[hour.AddDate(0, 0, -7*k)]; then != nil {
				weeks = append(weeks, *then)
			}
		}
		e.hour = watch.HoursOf(hour, weeks)
		delete(e.hours, hour.AddDate(0, 0, -7*(watch.Weeks+1)))
	}
	e.hours[hour].Merge(c)
}

// usual is a look as usual: more by day than by night, failures now and then, a burst of some once a day.
func (e *endpoint) usual(at time.Time, rate float64) {
	day := 0.6 - 0.4*math.Cos(2*math.Pi*(float64(at.Hour())-3)/24)
	n := poisson(e.r, rate*watch.Every.Seconds()*day)
	failing := 0.001
	if e.burst > 0 {
		e.burst--
		failing = 0.02
	} else if e.r.IntN(17_280) == 0 {
		e.burst = 3
	}
	e.look(at, n, failing, nil)
}

func poisson(r *rand.Rand, mean float64) int {
	n, product, limit := 0, r.Float64(), math.Exp(-mean)
	for product > limit {
		n++
		product *= r.Float64()
	}
	return n
}

func main() {
	runs := flag.Int("endpoints", 20, "`NUMBER` of endpoints")
	days := flag.Int("days", 90, "`NUMBER` of days of each")
	rate := flag.Float64("rate", 2, "`REQUESTS` a second")
	only := flag.String("only", "", "`WORD` in the name of what is wrong; all when not given")
	trials := flag.Int("runs", 30, "`NUMBER` of runs of each thing that is wrong")
	flag.IntVar(&longRows, "long", longRows, "`ROWS` by which a distribution is judged")
	flag.Parse()

	counts := make([]int, *runs)
	by := map[string]int{}
	var mu sync.Mutex
	var all sync.WaitGroup
	slots := make(chan struct{}, runtime.NumCPU())
	for i := range *runs {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			e := newEndpoint(uint64(i))
			end := begin.AddDate(0, 0, *days)
			for at := begin.Add(time.Duration(i) * 7 * time.Hour); at.Before(end); at = at.Add(watch.Every) {
				e.usual(at, *rate)
			}
			counts[i] = len(e.alarms)
			mu.Lock()
			defer mu.Unlock()
			for _, a := range e.alarms {
				by[a]++
			}
		})
	}
	all.Wait()
	total := 0
	for _, n := range counts {
		total += n
	}
	// The exact interval of a Poisson count (Garwood 1936).
	low, high := 0.0, distuv.ChiSquared{K: 2*float64(total) + 2}.Quantile(0.975)/2
	if total > 0 {
		low = distuv.ChiSquared{K: 2 * float64(total)}.Quantile(0.025) / 2
	}
	fmt.Printf(
		"false alarms: %d in %d endpoints of %d days at %.0f a second, %.3f per endpoint (95 %%: %.3f to %.3f)\n",
		total,
		*runs,
		*days,
		*rate,
		float64(total)/float64(*runs),
		low/float64(*runs),
		high/float64(*runs),
	)
	for name, n := range by {
		fmt.Printf("  %s: %d\n", name, n)
	}
	found(*only, *trials)
}

// wrong is something that is wrong from some moment on.
type wrong struct {
	name   string
	change func(e *endpoint) func(map[string]any)
	fails  float64
}

// soon is after how many requests it is seen; 0 is never.
func (w wrong) soon(seed uint64) int {
	e := newEndpoint(seed)
	at := begin
	anyTime := func() time.Time { return begin.Add(time.Duration(e.r.Int64N(int64(365 * 24 * time.Hour)))) }
	spread := func(q map[string]any) {
		for k, v := range row(e.r, anyTime()) {
			q[k] = v
		}
	}
	step := func(fails float64, change func(map[string]any)) {
		at = at.Add(watch.Every)
		e.look(at, 100, fails, change)
	}
	for range 60 {
		step(0.001, spread)
	}
	e.alarms, e.requests = nil, 0
	change := w.change(e)
	for range 120 {
		step(w.fails, func(q map[string]any) { spread(q); change(q) })
		if len(e.alarms) > 0 {
			return e.requests
		}
	}
	return 0
}

// found says how soon what is wrong is seen, once the watches know their reference: here rows of all hours come at
// once.
func found(only string, runs int) {
	for _, c := range []wrong{
		{"a cold snap: 14 degrees less", func(*endpoint) func(map[string]any) {
			return func(q map[string]any) { q["outdoor"] = q["outdoor"].(float64) - 14 }
		}, 0.001},
		{"half a standard deviation of one column", func(*endpoint) func(map[string]any) {
			return func(q map[string]any) { q["pressure"] = q["pressure"].(float64) + 3 }
		}, 0.001},
		{"degrees Fahrenheit", func(*endpoint) func(map[string]any) {
			return func(q map[string]any) { q["outdoor"] = 32 + 1.8*q["outdoor"].(float64) }
		}, 0.001},
		{"a column that goes missing", func(*endpoint) func(map[string]any) {
			return func(q map[string]any) { q["wind"] = nil }
		}, 0.001},
		{"one in twenty fails", func(*endpoint) func(map[string]any) { return func(map[string]any) {} }, 0.05},
		{"one in five fails", func(*endpoint) func(map[string]any) { return func(map[string]any) {} }, 0.2},
		{"the same two rows (must not be seen)", func(e *endpoint) func(map[string]any) {
			two := []map[string]any{row(e.r, begin), row(e.r, begin)}
			two[0]["outdoor"], two[1]["outdoor"] = 90.0, 91.0
			return func(q map[string]any) {
				for k, v := range two[e.r.IntN(2)] {
					q[k] = v
				}
			}
		}, 0.001},
	} {
		if !strings.Contains(c.name, only) {
			continue
		}
		var after []int
		unseen := 0
		for i := range runs {
			if seen := c.soon(uint64(1000 + i)); seen == 0 {
				unseen++
			} else {
				after = append(after, seen)
			}
		}
		sort.Ints(after)
		if len(after) == 0 {
			fmt.Printf("%-42s not seen in %d of %d\n", c.name, unseen, runs)
			continue
		}
		fmt.Printf(
			"%-42s seen after %d requests (median), %d in nine of ten, %d at most; not seen in %d of %d\n",
			c.name,
			after[len(after)/2],
			after[len(after)*9/10],
			after[len(after)-1],
			unseen,
			runs,
		)
	}
}
