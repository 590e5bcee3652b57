package sketch_test

import (
	"fmt"
	"math/rand/v2"
	"time"

	"innerladder/internal/core/sketch"
)

// Summaries of two hours make one of both, as if everything had been seen at once.
func ExampleQuantiles() {
	var morning, evening sketch.Quantiles
	for ms := range 1000 {
		morning.Add(time.Duration(ms) * time.Millisecond)
		evening.Add(time.Duration(2*ms) * time.Millisecond)
	}
	day := morning.Clone()
	day.Merge(&evening)
	fmt.Println(day.Count(), "requests, half of them within", day.At(0.5).Round(10*time.Millisecond))
	// Output: 2000 requests, half of them within 660ms
}

// A value that fills a bin by itself, such as the zero of rain, gets one.
func ExampleEqualFrequency() {
	rain := make([]float64, 60)
	r := rand.New(rand.NewPCG(1, 2))
	for range 40 {
		rain = append(rain, 1+9*r.Float64())
	}
	b := sketch.EqualFrequency(rain, 4)
	c := sketch.ColumnOf(b, rain)
	fmt.Println(b.Len(), "bins; in the first", c.Cells()[1], "values between", b.Edges[0], "and the least rain")
	// Output: 4 bins; in the first 60 values between 0 and the least rain
}

// Columns on the same bins merge; mean and standard deviation are exact.
func ExampleColumn() {
	b := sketch.Bins{Edges: []float64{0, 5, 10}}
	north, south := sketch.ColumnOf(b, []float64{1, 2, 3}), sketch.ColumnOf(b, []float64{6, 8, 11})
	north.AddMissing()
	if err := north.Merge(south); err != nil {
		fmt.Println(err)
	}
	fmt.Printf("%d seen, %d missing, mean %.2f\n", north.Seen(), north.Missing, north.Mean())
	// Output: 6 seen, 1 missing, mean 5.17
}
