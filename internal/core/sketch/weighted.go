package sketch

import (
	"fmt"
	"math"
	"time"

	"gonum.org/v1/gonum/floats"
)

// Weighted is a column of which every value counts as much as the weight with which it was added: with
// it, what one version saw is brought to the times at which another answered. It also knows how many
// values of equal weight would tell as much.
type Weighted struct {
	Bins Bins
	// Cells are the weighted counts in the order of Column.Cells, Sums those of the numbers in them.
	Cells, Sums []float64
	// Missing is the weighted count of missing values.
	Missing float64
	// Values is how many values were added, missing ones not included, whatever their weight.
	Values uint64
	// squares is that of Column, weighted; square the sum of squared weights, for Effective.
	squares, square float64
}

// NewWeighted returns an empty column on bins.
func NewWeighted(b Bins) *Weighted {
	w := &Weighted{Bins: b, Cells: make([]float64, len(NewColumn(b).Cells()))}
	if b.Numeric() {
		w.Sums = make([]float64, len(w.Cells))
	}
	return w
}

// WeightedOf is a column with weight 1.
func WeightedOf(c *Column) *Weighted {
	w := NewWeighted(c.Bins)
	_ = w.Add(c, 1) // they are on the same bins
	return w
}

// Add adds a column, which must be on equal bins, with a weight that is not negative.
func (w *Weighted) Add(c *Column, weight float64) error {
	if !w.Bins.Equal(c.Bins) {
		return fmt.Errorf("weighing columns: one has %d bins, the other %d, or their edges differ", w.Bins.Len(),
			c.Bins.Len())
	}
	for i, n := range c.Cells() {
		w.Cells[i] += weight * float64(n)
	}
	for i, x := range c.Sums {
		w.Sums[i] += weight * x
	}
	n := c.Seen()
	w.Missing += weight * float64(c.Missing)
	w.Values += n
	w.squares += weight * c.Squares
	w.square += weight * weight * float64(n)
	return nil
}

// Seen is the sum of the weights of the values that were counted, the missing ones not included.
func (w *Weighted) Seen() float64 { return floats.Sum(w.Cells) }

// Effective is how many values of equal weight tell as much: (Σ w)² / Σ w² (Kish 1965).
func (w *Weighted) Effective() float64 {
	if w.square == 0 {
		return 0
	}
	return w.Seen() * w.Seen() / w.square
}

// Mean is that of the numbers, NaN when there are none.
func (w *Weighted) Mean() float64 { return floats.Sum(w.Sums) / w.Seen() }

// StandardDeviation is that of the numbers (divisor n), NaN when there are none.
func (w *Weighted) StandardDeviation() float64 {
	return spread(w.Mean()-w.Bins.origin(), w.squares/w.Seen())
}

// Durations are durations of which every one counts as much as its weight, in buckets that are those
// of Quantiles. They are ready to be added up again and again with other weights.
type Durations struct {
	// lows and highs bound the buckets in nanoseconds, ascending; total is the weight in all.
	lows, highs, weights []float64
	total                float64
}

// DurationsOver prepares a place for whatever the sketches hold, so that Reset and Add are quick. The
// places of the buckets of each sketch are what Add wants.
func DurationsOver(sketches []*Quantiles) (d *Durations, places []Buckets) {
	nothing := indexMapping.Index(1) - 1 // the bucket of durations of no length, which has no index
	least, most := math.MaxInt, math.MinInt
	for _, q := range sketches {
		var b Buckets
		q.ForEach(func(ns, count float64) {
			index := nothing
			if ns > 0 {
				index = indexMapping.Index(ns)
			}
			least, most = min(least, index), max(most, index)
			b.at, b.counts = append(b.at, index), append(b.counts, count)
			b.total += count
		})
		places = append(places, b)
	}
	d = &Durations{}
	for index := least; index <= most; index++ {
		d.lows = append(d.lows, indexMapping.LowerBound(index))
		d.highs = append(d.highs, indexMapping.LowerBound(index+1))
		if index == nothing {
			d.lows[len(d.lows)-1], d.highs[len(d.lows)-1] = 0, 0
		}
	}
	for _, b := range places {
		for i := range b.at {
			b.at[i] -= least
		}
	}
	d.weights = make([]float64, len(d.lows))
	return d, places
}

// Buckets are what one sketch holds.
type Buckets struct {
	at     []int
	counts []float64
	total  float64
}

// Total is how many durations they hold.
func (b Buckets) Total() float64 { return b.total }

// Reset empties it.
func (d *Durations) Reset() {
	clear(d.weights)
	d.total = 0
}

// Add adds what one sketch holds with a weight.
func (d *Durations) Add(b Buckets, weight float64) {
	for i, at := range b.at {
		d.weights[at] += weight * b.counts[i]
	}
	d.total += weight * b.total
}

// Quantile is the p-quantile in nanoseconds: below it lies a share p of the weight, which is taken to lie
// evenly in each bucket. So it is off by little where durations differ, and by RelativeError at most
// where many are all but equal; 0 when there is none.
func (d *Durations) Quantile(p float64) float64 {
	if d.total <= 0 {
		return 0
	}
	left, last := p*d.total, 0.0
	for i, w := range d.weights {
		if w <= 0 {
			continue
		}
		if left <= w {
			return d.lows[i] + left/w*(d.highs[i]-d.lows[i])
		}
		left, last = left-w, d.highs[i]
	}
	return last
}

// Milliseconds turns nanoseconds into milliseconds.
func Milliseconds(ns float64) float64 { return ns / float64(time.Millisecond) }
