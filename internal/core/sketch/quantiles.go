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

// AddMany records that so many durations were about ns nanoseconds; their sum is told with Sums. Negative ones count
// as zero.
func (q *Quantiles) AddMany(ns float64, n uint64) {
	if n > 0 {
		_ = q.ensure().AddWithCount(max(ns, 0), float64(n)) // fails only for NaN and infinities
	}
}

// Sums adds the exact sum of durations that were recorded with AddMany.
func (q *Quantiles) Sums(sum time.Duration) { q.sum += max(sum, 0) }

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

// At returns the p-quantile, 0 ≤ p ≤ 1, rounded to a nanosecond; 0 when nothing was recorded.
func (q *Quantiles) At(p float64) time.Duration { return time.Duration(math.Round(q.Nanoseconds(p))) }

// Nanoseconds returns the p-quantile, the value of rank ⌈p·n⌉ (Hyndman and Fan 1996, type 1), within
// RelativeError however short the durations are; 0 when nothing was recorded.
func (q *Quantiles) Nanoseconds(p float64) float64 {
	n := q.Count()
	return q.Ranked(uint64(math.Ceil(math.Min(1, math.Max(0, p)) * float64(n))))
}

// Ranked returns the value of 1-based rank r among the n recorded, in nanoseconds; ranks outside of
// 1 to n give the least and the greatest.
func (q *Quantiles) Ranked(r uint64) (ns float64) {
	n := q.Count()
	if n == 0 {
		return 0
	}
	left := float64(min(max(r, 1), n))
	q.sketch.ForEach(func(value, count float64) (stop bool) {
		ns, left = value, left-count
		return left <= 0
	})
	return ns
}

// Above is how many of the durations recorded are longer than ns nanoseconds, within RelativeError of
// that limit.
func (q *Quantiles) Above(ns float64) (n uint64) {
	if q.Count() == 0 {
		return 0
	}
	above := 0.0
	q.sketch.ForEach(func(value, count float64) (stop bool) {
		if value > ns {
			above += count
		}
		return false
	})
	return uint64(math.Round(above))
}

// ForEach gives every bucket: a value in nanoseconds within RelativeError, and how many durations are
// in it, in ascending order.
func (q *Quantiles) ForEach(f func(ns, count float64)) {
	if q.Count() == 0 {
		return
	}
	q.sketch.ForEach(func(value, count float64) (stop bool) {
		f(value, count)
		return false
	})
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
