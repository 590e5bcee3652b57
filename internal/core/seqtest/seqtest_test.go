package seqtest

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"
)

// binomial draws the number of failures in n requests.
func binomial(r *rand.Rand, n uint64, p float64) uint64 {
	return uint64(distuv.Binomial{N: float64(n), P: p, Src: r}.Rand())
}

// watch runs the guard for so many seconds and returns the second at which it fired,
// or 0.
func watch(r *rand.Rand, seconds int, perSecond, share, margin, alpha float64,
	rates func(second int) (incumbent, candidate float64),
) int {
	g := Rate{Line: Line{Slope: 1, Offset: margin}}
	for s := range seconds {
		pi, pc := rates(s)
		c := uint64(distuv.Poisson{Lambda: perSecond * share, Src: r}.Rand())
		i := uint64(distuv.Poisson{Lambda: perSecond * (1 - share), Src: r}.Rand())
		g.Observe(Block{i, binomial(r, i, pi), c, binomial(r, c, pc)})
		if g.Fires(alpha) {
			return s + 1
		}
	}
	return 0
}

// The promise of the package: looking every second for a long time, the guard fires
// on a candidate that is no worse than allowed with a chance of at most α. α is taken
// large so that a broken guard shows.
func TestRateKeepsItsPromise(t *testing.T) {
	const alpha, rounds, seconds = 0.05, 400, 600
	steady := func(i, c float64) func(int) (float64, float64) {
		return func(int) (float64, float64) { return i, c }
	}
	cases := []struct {
		name             string
		perSecond, share float64
		margin           float64
		rates            func(int) (float64, float64)
	}{
		{"equal at 1 %", 100, 0.1, 0, steady(0.01, 0.01)},
		{"equal at 30 %", 100, 0.5, 0, steady(0.3, 0.3)},
		{"quiet: one request in ten seconds on trial", 1, 0.1, 0, steady(0.05, 0.05)},
		{"exactly at the margin", 200, 0.2, 0.005, steady(0.01, 0.015)},
		{"better", 100, 0.1, 0, steady(0.05, 0.01)},
		{"an outage that hits both", 100, 0.1, 0, func(s int) (float64, float64) {
			if s > 200 && s < 260 {
				return 0.6, 0.6
			}
			return 0.001, 0.001
		}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(42, uint64(len(c.name))))
			fired := 0
			for range rounds {
				if watch(r, seconds, c.perSecond, c.share, c.margin, alpha, c.rates) > 0 {
					fired++
				}
			}
			// three standard errors above α
			limit := alpha + 3*math.Sqrt(alpha*(1-alpha)/rounds)
			if share := float64(fired) / rounds; share > limit {
				t.Errorf("fired on %.3f of harmless candidates, want at most %.2f", share, alpha)
			}
		})
	}
}

func TestRateFiresSoonOnHarm(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 50 {
		at := watch(r, 60, 500, 0.1, 0.005, 0.001, func(int) (float64, float64) { return 0, 0.2 })
		if at == 0 || at > 3 {
			t.Fatalf("20 %% failures at 50 requests a second on trial: fired at second %d, want 1 to 3", at)
		}
	}
	var total float64
	const rounds = 100
	for range rounds {
		at := watch(r, 3600, 200, 0.1, 0, 0.001, func(int) (float64, float64) { return 0.01, 0.03 })
		if at == 0 {
			t.Fatal("a rise from 1 % to 3 % went unnoticed for an hour")
		}
		total += float64(at) * 20
	}
	yardstick := SequentialRatio(0.01, 0.03, 0.001)
	if ratio := total / rounds / yardstick; ratio > 3 {
		t.Errorf("needs %.1f times the requests of a test that knows both rates, want at most 3", ratio)
	}
}

func TestRateTakenUpAgainIsTheSame(t *testing.T) {
	a := Rate{Line: Line{Slope: 1, Offset: 0.005}}
	blocks := []Block{{90, 0, 10, 1}, {0, 0, 3, 0}, {85, 1, 12, 2}, {91, 0, 9, 1}}
	for _, b := range blocks[:2] {
		a.Observe(b)
	}
	raw, err := json.Marshal(a)
	if err != nil {
		t.Fatal(err)
	}
	var b Rate
	if err := json.Unmarshal(raw, &b); err != nil {
		t.Fatal(err)
	}
	for _, bl := range blocks[2:] {
		a.Observe(bl)
		b.Observe(bl)
	}
	if a.LogE() != b.LogE() || a.Seen != b.Seen {
		t.Errorf("after storing: %v and %v", a.LogE(), b.LogE())
	}
	if math.IsNaN(a.LogE()) || math.IsInf(a.LogE(), 0) {
		t.Errorf("e-value %v", a.LogE())
	}
}

func TestExtremeBlocksStayFinite(t *testing.T) {
	g := Rate{Line: Line{Slope: 1, Offset: 0.3}}
	for range 100 {
		g.Observe(Block{1000, 1000, 1000, 1000})
		g.Observe(Block{1000, 0, 1000, 1000})
		g.Observe(Block{1000, 1000, 1000, 0})
	}
	if l := g.LogE(); math.IsNaN(l) || math.IsInf(l, 0) {
		t.Errorf("log e-value %v", l)
	}
}

// The allowance is a ratio and a difference: a rate that rises fifty-fold within half a point was never
// noticed by a difference alone.
func TestAFiftyFoldHarmIsNoticed(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 1))
	for range 20 {
		e := NewExcess(Allowance{Ratio: 2, Difference: 0.0005})
		at := 0
		for s := 1; s <= 3600 && at == 0; s++ {
			e.Observe(Block{450, binomial(r, 450, 0.0001), 50, binomial(r, 50, 0.005)})
			if e.LogE() > math.Log(1000) {
				at = s
			}
		}
		if at == 0 || at > 600 {
			t.Fatalf("0.01 %% became 0.5 %%: noticed at second %d", at)
		}
	}
}

// excess runs the guard on the error rate over an hour of seconds and returns how it ends.
func excess(seconds int, second func(s int) Block, rate func(a Allowance) Excess) (over, enough float64) {
	e := rate(Allowance{Ratio: 2, Difference: 0.0005})
	var bursts Bursts
	var all Block
	for s := range seconds {
		b := second(s)
		all = all.Plus(b)
		e.Observe(b)
		bursts.Observe(b.IncumbentFailed, b.IncumbentRequests)
		patience := bursts.Worst.For(float64(all.CandidateRequests) / float64(all.IncumbentRequests))
		over, enough = math.Max(over, e.LogE()-patience), math.Max(enough, e.LogEnough())
	}
	return over, enough
}

// Harm that begins after a good hour is found out as soon as one that is there from the beginning: once the
// bets had been lost meanwhile, and it took the longer the longer the trial had been good.
func TestHarmThatBeginsLate(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	for _, c := range []struct {
		good, most int
		p          float64
	}{{3600, 6, 0.2}, {3600, 45, 0.04}, {4 * 3600, 6, 0.2}, {0, 3, 0.2}} {
		e, at := NewExcess(Allowance{Ratio: 2, Difference: 0.0005}), 0
		for s := 0; s < c.good+300 && at == 0; s++ {
			b := drawn(r, 200, 0.1, 0.001)
			if s >= c.good {
				b.CandidateFailed = binomial(r, b.CandidateRequests, c.p)
			}
			if e.Observe(b); e.LogE() > math.Log(1000) {
				at = s
			}
		}
		if at < c.good || at > c.good+c.most {
			t.Errorf("%v failing from second %d on was found out at %d", c.p, c.good, at)
		}
	}
}

// What must not count as harm: equal versions under traffic that is anything but even.
func TestHarmlessTrialsGoOn(t *testing.T) {
	const alpha, rounds, seconds = 0.05, 200, 900
	for _, share := range []float64{0.01, 0.05, 0.5} {
		for name, second := range map[string]func(r *rand.Rand, s int) Block{
			"steady": func(r *rand.Rand, _ int) Block { return drawn(r, 200, share, 0.01) },
			"bursts of requests": func(r *rand.Rand, s int) Block {
				return drawn(r, 20+1000*float64(s/7%9/8), share, 0.01)
			},
			"day and night": func(r *rand.Rand, s int) Block {
				return drawn(r, 100, share, 0.01+0.04*math.Pow(math.Sin(float64(s)/150), 2))
			},
			// One caller fails a whole burst of its requests, each drawn for a lane by itself.
			"a caller who retries": func(r *rand.Rand, _ int) Block {
				b := drawn(r, 200, share, 0.001)
				if r.Float64() < 0.1 {
					n := binomial(r, 10, share)
					b.CandidateRequests, b.CandidateFailed = b.CandidateRequests+n, b.CandidateFailed+n
					b.IncumbentRequests, b.IncumbentFailed = b.IncumbentRequests+10-n, b.IncumbentFailed+10-n
				}
				return b
			},
		} {
			r, fired := rand.New(rand.NewPCG(8, uint64(len(name)))), 0
			for range rounds {
				over, _ := excess(seconds, func(s int) Block { return second(r, s) }, func(Allowance) Excess {
					return NewExcess(Allowance{}) // exactly as good is at the edge of what is allowed
				})
				if over >= -math.Log(alpha) {
					fired++
				}
			}
			if limit := alpha + 3*math.Sqrt(alpha*(1-alpha)/rounds); float64(fired)/rounds > limit {
				t.Errorf("%s at %v: %d of %d equal versions rolled back", name, share, fired, rounds)
			}
		}
	}
}

// drawn is a second in which both lanes fail alike.
func drawn(r *rand.Rand, perSecond, share, p float64) Block {
	n := func(rate float64) uint64 { return uint64(distuv.Poisson{Lambda: rate, Src: r}.Rand()) }
	i, c := n(perSecond*(1-share)), n(perSecond*share)
	return Block{i, binomial(r, i, p), c, binomial(r, c, p)}
}

// A lane that is out for some seconds now and then is held against a main lane that is so too, once that
// has been seen.
func TestOutagesThatMainHasToo(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 14))
	out := func(from int) func(s int) (main, trial bool) {
		return func(s int) (bool, bool) { return s%300 >= 200 && s%300 < 205, s >= from && s%300 >= 50 && s%300 < 55 }
	}
	second := func(s int, out func(int) (bool, bool)) Block {
		b := drawn(r, 200, 0.1, 0.001)
		main, trial := out(s)
		if main {
			b.IncumbentFailed = b.IncumbentRequests
		}
		if trial {
			b.CandidateFailed = b.CandidateRequests
		}
		return b
	}
	known := out(300)
	if over, _ := excess(3600, func(s int) Block { return second(s, known) }, NewExcess); over > math.Log(1000) {
		t.Errorf("outages like main's: evidence e^%.1f", over)
	}
	never := func(s int) (bool, bool) { _, trial := known(s); return false, trial }
	if over, _ := excess(3600, func(s int) Block { return second(s, never) }, NewExcess); over < math.Log(1000) {
		t.Errorf("outages that main never had: evidence e^%.1f", over)
	}
	// A trial that fails for good is still found out, some seconds later, also where main was out for long.
	for name, main := range map[string]func(s int) bool{
		"now and then": func(s int) bool { m, _ := known(s); return m },
		"for minutes":  func(s int) bool { return s >= 100 && s < 400 },
	} {
		at := 0
		e, bursts, all := NewExcess(Allowance{Ratio: 2, Difference: 0.0005}), Bursts{}, Block{}
		for s := 0; s < 2400 && at == 0; s++ {
			b := second(s, func(s int) (bool, bool) { return main(s), s >= 1800 })
			all = all.Plus(b)
			e.Observe(b)
			bursts.Observe(b.IncumbentFailed, b.IncumbentRequests)
			patience := bursts.Worst.For(float64(all.CandidateRequests) / float64(all.IncumbentRequests))
			if e.LogE()-patience > math.Log(1000) {
				at = s
			}
		}
		if at < 1800 || at > 1830 {
			t.Errorf("main was out %s: a trial that fails for good from second 1800 on was found out at %d", name, at)
		}
	}
}

func TestTheWorstMinute(t *testing.T) {
	failed, requests := make([]uint64, 1440), make([]uint64, 1440)
	r := rand.New(rand.NewPCG(1, 7))
	for i := range failed {
		requests[i] = 12000
		failed[i] = binomial(r, 12000, 0.001)
	}
	if worst := WorstMinute(failed, requests); worst != (Moment{}) {
		t.Errorf("failures that come one by one have a worst moment of %+v", worst)
	}
	failed[700] = 1000 // out for five seconds
	if worst := WorstMinute(failed, requests); worst.Evidence < 6000 || worst.Evidence > 7500 {
		t.Errorf("an outage of a thousand requests is %+v", worst)
	}
	if worst := WorstMinute(nil, nil); worst != (Moment{}) || worst.For(0.1) != 0 {
		t.Errorf("nothing has a worst moment of %+v", worst)
	}
}

// The same processes turned round prove that a candidate is good enough, and of one that is not only by
// chance.
func TestGoodEnough(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	_, good := excess(1800, func(int) Block { return drawn(r, 300, 0.2, 0.01) }, NewExcess)
	if good < math.Log(1000) {
		t.Errorf("1 %% on both sides where 2 %% are allowed: evidence e^%.1f that it is good enough", good)
	}
	wrong := 0
	for range 200 {
		_, bad := excess(600, func(int) Block {
			b := drawn(r, 300, 0.2, 0.01)
			b.CandidateFailed = binomial(r, b.CandidateRequests, 0.02)
			return b
		}, NewExcess)
		if bad >= math.Log(20) {
			wrong++
		}
	}
	if wrong > 20 { // 0.05 of 200, and three standard errors
		t.Errorf("%d of 200 candidates at the edge passed for good enough", wrong)
	}
}

// edges runs the processes on a distribution, so many rows a second of which the trial has a tenth, and
// returns the rows of the trial until the evidence was 2000 to 1, or 0.
func edges(r *rand.Rand, margin, shift float64, seconds int, drift func(s int) float64) uint64 {
	var at []float64
	for i := range 19 {
		at = append(at, distuv.UnitNormal.Quantile(float64(i+1)/20))
	}
	e := NewEdges(margin, true)
	p, q := make([]uint64, 20), make([]uint64, 20)
	add := func(counts []uint64, x float64) {
		i := 0
		for i < len(at) && x >= at[i] {
			i++
		}
		counts[i]++
	}
	for s := range seconds {
		for i := range 100 {
			x := r.NormFloat64() + drift(s)
			if i < 10 {
				add(q, x+shift)
			} else {
				add(p, x)
			}
		}
		if e.Observe(p, q); e.LogE(1) >= math.Log(2000) {
			return total(q)
		}
	}
	return 0
}

func TestShiftsOfPredictionsAreNoticed(t *testing.T) {
	steady := func(int) float64 { return 0 }
	for _, c := range []struct {
		shift, margin float64
		most          uint64
	}{{0.25, 0.02, 6000}, {0.5, 0.1, 2500}, {1, 0.1, 260}} {
		r := rand.New(rand.NewPCG(9, 9))
		sum := uint64(0)
		for range 10 {
			n := edges(r, c.margin, c.shift, 3600, steady)
			if n == 0 {
				t.Fatalf("a shift of %v standard deviations was not noticed within %v", c.shift, c.margin)
			}
			sum += n
		}
		if sum/10 > c.most {
			t.Errorf("a shift of %v standard deviations took %d rows", c.shift, sum/10)
		}
	}
	r, fired := rand.New(rand.NewPCG(2, 9)), 0
	for range 30 {
		if edges(r, 0.1, 0.2, 600, func(s int) float64 { return 2 * math.Sin(float64(s)/100) }) > 0 {
			fired++
		}
	}
	if fired > 0 {
		t.Errorf("%d of 30 trials within the margin were rolled back as the law moved", fired)
	}
}

func TestEdgesOfCategoriesAndOfOtherCells(t *testing.T) {
	e := NewEdges(0.1, false)
	p, q := make([]uint64, 3), make([]uint64, 3)
	for range 100 {
		p[0], p[1], q[1], q[2] = p[0]+8, p[1]+2, q[1]+5, q[2]+5
		e.Observe(p, q)
	}
	if gap, at := e.Gap(); gap != 0.8 || at != 0 || e.LogE(1) < 20 {
		t.Errorf("a level that is gone: gap %v at %d, evidence e^%.1f", gap, at, e.LogE(1))
	}
	if full, half := e.LogE(1), e.LogE(0.5); half >= full {
		t.Errorf("half the independent rows tell as much: e^%.1f and e^%.1f", half, full)
	}
	copied := e.Clone()
	e.Observe([]uint64{9000, 0, 0}, q)
	if copied.IncumbentTaken[0] != 800 {
		t.Error("a copy moved on with the first")
	}
	e.Observe([]uint64{1, 2}, []uint64{2, 1})
	if len(e.More) != 2 || e.LogE(1) > 1 {
		t.Errorf("other cells must begin anew: %d edges, e^%.1f", len(e.More), e.LogE(1))
	}
}

func TestMeanKeepsItsPromiseAndSeesHarm(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 3))
	some := func(n int, shift float64) (out []float64) {
		for range n {
			out = append(out, r.NormFloat64()+shift)
		}
		return out
	}
	run := func(shift, margin float64, pairs int) float64 {
		m, most := Mean{Clip: 3, Margin: margin}, 0.0
		for range pairs {
			m.Observe(some(3, 0), some(1, shift))
			most = math.Max(most, m.LogE())
		}
		return most
	}
	fired := 0
	for range 400 {
		if run(0.2, 0.2, 1000) > math.Log(20) {
			fired++
		}
	}
	if fired > 33 {
		t.Errorf("%d of 400 at the margin fired at 0.05", fired)
	}
	if got := run(0.5, 0.1, 2000); got < math.Log(1000) {
		t.Errorf("half a standard deviation: evidence e^%.1f", got)
	}
	// What Bound foretells is near to what happens.
	bound := (&Mean{Clip: 3, Margin: 0.1}).Bound(0.4, math.Sqrt(1+1.0/3), 0.001)
	if early, late := run(0.5, 0.1, int(bound/2)), run(0.5, 0.1, int(2*bound)); early > math.Log(1000) ||
		late < math.Log(1000) {
		t.Errorf("%.0f were foretold; e^%.1f after half of them, e^%.1f after twice as many", bound, early, late)
	}
	var none Mean
	if none.Observe([]float64{1}, []float64{5}); none.LogE() != 0 {
		t.Error("without a range nothing can be bet")
	}
	if m := (Mean{Clip: 1}); !math.IsInf(m.Bound(0, 1, 0.001), 1) {
		t.Error("what is no different is never shown to be")
	}
	one := Mean{Clip: 1}
	if one.Observe(nil, []float64{5}); one.LogE() != 0 {
		t.Error("without a value of the incumbent nothing can be bet")
	}
}

func TestScales(t *testing.T) {
	for name, c := range map[string]struct{ deviation, farthest, margin, want float64 }{
		"as usual":                      {1, 40, 0.1, 3},
		"nothing is far off":            {1, 2.5, 0.1, 3},
		"one sale in fifty visits":      {0.14, 0.98, 0.005, 0.98},
		"one sale in ten thousand":      {0.01, 0.9999, 0.001, 0.03},
		"all the same, and a margin":    {0, 0, 0.5, 1},
		"a margin that is large beside": {1, 2, 5, 10},
	} {
		if _, clip := ScaleOf(7, c.deviation, c.farthest, c.margin); math.Abs(clip-c.want) > 1e-12 {
			t.Errorf("%s: clipped at %v, want %v", name, clip, c.want)
		}
	}
}

func TestBoundIsWaldsForALaneThatIsAllMain(t *testing.T) {
	if got, want := (Line{Slope: 1}).Bound(0.01, 0.03, 1e-9, 0.001), SequentialRatio(0.01, 0.03, 0.001); math.Abs(
		got/want-1) > 1e-3 {
		t.Errorf("got %v, want %v", got, want)
	}
	line := Line{Slope: 2}
	if two, half := line.Bound(0.01, 0.05, 0.05, 0.001), line.Bound(0.01, 0.05, 0.5, 0.001); two >= half {
		t.Errorf("a main lane as small as the trial must cost requests: %v and %v", two, half)
	}
}
