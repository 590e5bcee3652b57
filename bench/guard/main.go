// Command guard measures the guards and the comparison by simulation, each figure with its interval: how
// often guards end a trial that is as good as its incumbent, how soon they notice harm beside tests that
// know everything beforehand, and how often the intervals of a comparison hold the truth.
package main

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"

	"innerladder/internal/core/interval"

	"gonum.org/v1/gonum/stat/distuv"
)

func main() {
	trials := flag.Int("trials", 20_000, "`N` simulated trials of each case")
	seconds := flag.Int("seconds", 200, "`N` seconds for which a harmless trial is watched")
	only := flag.String("only", "", "`PART`: false, harm, coverage or rollouts; all of them when not given")
	flag.Parse()
	for name, part := range map[string]func(int, int){
		"false": falseAlarms, "harm": harm, "coverage": coverage, "rollouts": rollouts,
	} {
		if *only == "" || *only == name {
			part(*trials, *seconds)
		}
	}
}

// many runs a simulation so many times on all processors, each with a seed of its own.
func many[T any](n int, run func(r *rand.Rand) T) []T {
	out := make([]T, n)
	var all sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for w := range workers {
		all.Go(func() {
			for i := w; i < n; i += workers {
				out[i] = run(rand.New(rand.NewPCG(2026, uint64(i))))
			}
		})
	}
	all.Wait()
	return out
}

// share writes how many of n something was, with its 95 % interval.
func share(k, n int) string {
	i := interval.Wilson(float64(k), float64(n), 0.95)
	return fmt.Sprintf("%.5f (%.5f to %.5f)", float64(k)/float64(n), i.Low, i.High)
}

// mean writes a mean with its 95 % interval.
func mean(x []float64) (m float64, text string) {
	var sum, squares float64
	for _, v := range x {
		sum, squares = sum+v, squares+v*v
	}
	n := float64(len(x))
	m = sum / n
	by := 1.96 * math.Sqrt(max(0, squares/n-m*m)/n)
	return m, fmt.Sprintf("%.0f ± %.0f", m, by)
}

func quantile(x []float64, p float64) float64 {
	slices.Sort(x)
	return x[min(len(x)-1, int(p*float64(len(x))))]
}

func poisson(r *rand.Rand, rate float64) uint64 {
	if rate <= 0 {
		return 0
	}
	return uint64(distuv.Poisson{Lambda: rate, Src: r}.Rand())
}

func binomial(r *rand.Rand, n uint64, p float64) uint64 {
	if n == 0 || p <= 0 {
		return 0
	}
	return uint64(distuv.Binomial{N: float64(n), P: min(1, p), Src: r}.Rand())
}
