package seqtest_test

import (
	"fmt"
	"math/rand/v2"

	"innerladder/internal/core/seqtest"
)

// Second by second, 95 requests go to the incumbent and 5 to a candidate that fails five
// times as often. One may look after each of them and stop at any.
func ExampleRate() {
	r := rand.New(rand.NewPCG(7, 7))
	failed := func(n uint64, rate float64) (k uint64) {
		for range n {
			if r.Float64() < rate {
				k++
			}
		}
		return k
	}
	test := seqtest.Rate{Line: seqtest.Line{Slope: 1, Offset: 0.005}} // half a point more is allowed
	for second := 1; ; second++ {
		test.Observe(seqtest.Block{
			IncumbentRequests: 95, IncumbentFailed: failed(95, 0.02),
			CandidateRequests: 5, CandidateFailed: failed(5, 0.10),
		})
		if test.Fires(0.001) {
			fmt.Println("worse than allowed for certain after", test.Seen.CandidateRequests, "requests")
			return
		}
	}
	// Output: worse than allowed for certain after 225 requests
}

// The yardstick: how many requests a test needs that knows both rates beforehand.
func ExampleSequentialRatio() {
	fmt.Printf("%.0f\n", seqtest.SequentialRatio(0.02, 0.10, 0.001))
	// Output: 82
}
