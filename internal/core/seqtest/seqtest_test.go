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
	g := Rate{Margin: margin}
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
	a := Rate{Margin: 0.005}
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
	g := Rate{Margin: 0.3}
	for range 100 {
		g.Observe(Block{1000, 1000, 1000, 1000})
		g.Observe(Block{1000, 0, 1000, 1000})
		g.Observe(Block{1000, 1000, 1000, 0})
	}
	if l := g.LogE(); math.IsNaN(l) || math.IsInf(l, 0) {
		t.Errorf("log e-value %v", l)
	}
}

// Bands that are looked at after every observation must hold the whole way.
func TestBandHoldsAtEveryMoment(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 2))
	const alpha, rounds, length, cells = 0.1, 300, 3000, 20
	left := 0
	for range rounds {
		counts := make([]uint64, cells)
		for n := uint64(1); n <= length; n++ {
			counts[r.IntN(cells)]++
			var c uint64
			gap := 0.0
			for i, k := range counts {
				c += k
				gap = math.Max(gap, math.Abs(float64(c)/float64(n)-float64(i+1)/cells))
			}
			if gap > Band(n, alpha) {
				left++
				break
			}
		}
	}
	if share := float64(left) / rounds; share > alpha {
		t.Errorf("the truth left the band in %.3f of runs, want at most %.1f", share, alpha)
	}
}

func TestCDFGap(t *testing.T) {
	same := CDFGap([]uint64{500, 500}, []uint64{250, 250}, 0.001)
	if same.Seen != 0 || same.Low != 0 {
		t.Errorf("equal shares: %+v", same)
	}
	apart := CDFGap([]uint64{5000, 0}, []uint64{0, 5000}, 0.001)
	if apart.Seen != 1 || apart.Low < 0.85 {
		t.Errorf("disjoint: %+v", apart)
	}
	if few := CDFGap([]uint64{5, 0}, []uint64{0, 5}, 0.001); few.Low != 0 {
		t.Errorf("ten observations prove nothing: %+v", few)
	}
}
