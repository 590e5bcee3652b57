package drift_test

import (
	"fmt"

	"innerladder/internal/core/drift"
)

// A population stability index says nothing without its noise: of two samples of one law it is
// not 0, and how far from 0 it may be depends on how large they are.
func ExampleNoiseOf() {
	reference, now := []float64{250, 250, 250, 250}, []float64{20, 30, 26, 24}
	noise := drift.NoiseOf(len(reference), 1000, 100)
	fmt.Printf("index %.3f; by chance alone %.3f on average, and over %.3f once in 100\n", drift.PSI(reference, now),
		noise.Expected(), noise.Quantile(0.99))
	// Output: index 0.020; by chance alone 0.033 on average, and over 0.125 once in 100
}

// A shift by one cell, in three measures.
func ExampleJensenShannon() {
	p, q := []float64{100, 300, 100, 0}, []float64{0, 100, 300, 100}
	gap, _ := drift.KolmogorovSmirnov(p, q)
	fmt.Printf("Jensen–Shannon %.2f, largest gap %.2f\n", drift.JensenShannon(p, q), gap)
	// Output: Jensen–Shannon 0.59, largest gap 0.60
}

// Of many columns some move by chance; the p-values are adjusted for how many were looked at.
func ExampleBenjaminiHochberg() {
	fmt.Printf("%.3f\n", drift.BenjaminiHochberg([]float64{0.001, 0.02, 0.03, 0.8}))
	// Output: [0.004 0.040 0.040 0.800]
}
