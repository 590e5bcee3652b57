package sketch

import (
	"math"
	"time"

	"github.com/DataDog/sketches-go/ddsketch"
	"github.com/DataDog/sketches-go/ddsketch/mapping"
	"github.com/DataDog/sketches-go/ddsketch/store"
)

// RelativeError is the largest relative error of any quantile that Quantiles gives.
const RelativeError = 0.01

// mostBins bounds the memory of one sketch: at 1 % it spans a factor of e^40, more
// than from a nanosecond to a month, before the smallest values would be folded.
const mostBins = 2048

var indexMapping = func() mapping.IndexMapping {
	m, err := mapping.NewCubicallyInterpolatedMapping(RelativeError)
	if err != nil {
		panic(err) // the constant above is a valid accuracy
	}
	return m
}()

func newStore() store.Store { return store.NewCollapsingLowestDenseStore(mostBins) }

// Quantiles summarises durations: any quantile within RelativeError (Masson, Rim and
// Lee 2019), and the exact sum. Its zero value is empty and ready. Not safe for use
// by several goroutines at once.
type Quantiles struct {
	sketch *ddsketch.DDSketch
	sum    time.Duration
}

func (q *Quantiles) ensure() *ddsketch.DDSketch {
	if q.sketch == nil {
		q.sketch = ddsketch.NewDDSketch(indexMapping, newStore(), newStore())
	}
	return q.sketch
}

// Add records one duration; negative ones count as zero.
func (q *Quantiles) Add(d time.Duration) {
	d = max(d, 0)
	// Add fails only for NaN and infinities, which a duration cannot be.
	_ = q.ensure().Add(float64(d))
	q.sum += d
}

// Count is the number of durations recorded.
func (q *Quantiles) Count() uint64 {
	if q == nil || q.sketch == nil {
		return 0
	}
	return uint64(math.Round(q.sketch.GetCount()))
}

// Sum is the exact sum of the durations recorded.
func (q *Quantiles) Sum() time.Duration {
	if q == nil {
		return 0
	}
	return q.sum
}

// At returns the p-quantile, 0 ≤ p ≤ 1; 0 when nothing was recorded.
func (q *Quantiles) At(p float64) time.Duration {
	if q.Count() == 0 {
		return 0
	}
	v, err := q.sketch.GetValueAtQuantile(math.Min(1, math.Max(0, p)))
	if err != nil {
		return 0
	}
	return time.Duration(v)
}

// AtRank returns the value of 1-based rank r among the n recorded.
func (q *Quantiles) AtRank(r uint64) time.Duration {
	n := q.Count()
	if n <= 1 {
		return q.At(0)
	}
	r = min(max(r, 1), n)
	return q.At(float64(r-1) / float64(n-1))
}

// Merge adds everything recorded in o; exact in the sense that the result is the
// sketch of the two streams together.
func (q *Quantiles) Merge(o *Quantiles) {
	if o.Count() == 0 {
		return
	}
	// MergeWith fails only for unequal mappings; there is one.
	_ = q.ensure().MergeWith(o.sketch)
	q.sum += o.sum
}

// Clone returns an independent copy.
func (q *Quantiles) Clone() *Quantiles {
	c := &Quantiles{sum: q.sum}
	if q.sketch != nil {
		c.sketch = q.sketch.Copy()
	}
	return c
}

// Reset empties the sketch and keeps its memory.
func (q *Quantiles) Reset() {
	if q.sketch != nil {
		q.sketch.Clear()
	}
	q.sum = 0
}

// durationOf is a number of nanoseconds that was stored.
func durationOf(n uint64) time.Duration { return time.Duration(min(n, math.MaxInt64)) }
