package drift

import (
	"math"
	"math/rand/v2"
	"testing"

	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/stat/distuv"
)

// drawn draws n values of a law of cells.
func drawn(r *rand.Rand, law []float64, n int) Sample {
	values := make([]float64, 0, n)
	c := distuv.NewCategorical(law, r)
	for range n {
		values = append(values, c.Rand()+0.5)
	}
	edges := make([]float64, len(law)+1)
	for i := range edges {
		edges[i] = float64(i)
	}
	return SampleOf(sketch.ColumnOf(sketch.Bins{Edges: edges}, values), uint64(n))
}

// The evidence against "at most as far as is allowed" has an expectation of at most one for laws that are just as
// far, or not at all, and grows with what is further.
func TestEvidenceOfADistribution(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for _, cells := range []int{3, 10, 20} {
		reference := make([]float64, cells)
		for i := range reference {
			reference[i] = 1 / float64(cells)
		}
		p := drawn(r, reference, 40_000)
		// moved is the law whose shares grow from the first cell to the last, so far that the PSI is as wanted.
		moved := func(psi float64) []float64 {
			law := make([]float64, cells)
			low, high := 0.0, 3.0
			for range 60 {
				tilt := (low + high) / 2
				sum := 0.0
				for i := range law {
					law[i] = math.Exp(tilt * float64(i) / float64(cells-1))
					sum += law[i]
				}
				distance := 0.0
				for i := range law {
					law[i] /= sum
					distance += (law[i] - reference[i]) * math.Log(law[i]/reference[i])
				}
				if distance > psi {
					high = tilt
				} else {
					low = tilt
				}
			}
			return law
		}
		for _, n := range []int{300, 1000} {
			for _, psi := range []float64{0, 0.05, 0.1} {
				law := moved(psi)
				mean := 0.0
				const runs = 2000
				for range runs {
					_, e, ok := Evidence(p, drawn(r, law, n), Allowed)
					if !ok {
						t.Fatal("it cannot be judged")
					}
					mean += math.Exp(e) / runs
				}
				if mean > 1.25 {
					t.Errorf("%d cells, %d rows, a PSI of %.2f: the e-value is %.2f on average", cells, n, psi, mean)
				}
			}
			effect, e, _ := Evidence(p, drawn(r, moved(0.35), n), Allowed)
			if e < 5 || math.Abs(effect-0.35) > 0.2 {
				t.Errorf("%d cells, %d rows, a PSI of 0.35: effect %.2f, evidence %.1f", cells, n, effect, e)
			}
		}
	}
	one := drawn(r, []float64{1, 0, 0}, 100)
	if _, e, ok := Evidence(one, one, Allowed); !ok || e != 0 {
		t.Errorf("all in one cell on both sides: %v, %v", e, ok)
	}
	if _, _, ok := Evidence(one, drawn(r, []float64{0.5, 0.5}, 100), Allowed); ok {
		t.Error("other bins are compared")
	}
	if _, _, ok := Evidence(one, SampleOf(sketch.NewColumn(one.Column.Bins), 0), Allowed); ok {
		t.Error("nothing is compared")
	}
}
