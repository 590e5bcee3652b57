package sketch

import (
	"encoding/binary"
	"fmt"
	"math"

	"github.com/DataDog/sketches-go/ddsketch"
)

// Numbers summarises numbers of either sign in any unit: how many there are, their mean and the sum of the squares
// around it, the least and the greatest, all exact but for rounding (Chan, Golub and LeVeque 1983), and any quantile
// within RelativeError, as far as magnitudes differ by no more than a factor of e^40: what is smaller counts as the
// least of that. Its zero value is empty and ready. Not safe for use by several goroutines at once.
type Numbers struct {
	N uint64
	// Sum is that of all, which is exact where they are whole.
	Sum float64
	// Mean is theirs, Around the sum of their squared distances from it.
	Mean, Around float64
	Min, Max     float64
	sketch       *ddsketch.DDSketch
}

func (s *Numbers) ensure() *ddsketch.DDSketch {
	if s.sketch == nil {
		s.sketch = ddsketch.NewDDSketch(indexMapping, newStore(), newStore())
	}
	return s.sketch
}

// Add takes a number in; one that is not finite counts as nothing.
func (s *Numbers) Add(x float64) {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return
	}
	s.combine(&Numbers{N: 1, Sum: x, Mean: x, Min: x, Max: x})
	// It fails only for what was left out above, and beyond the largest number of the mapping, which is left out of
	// the quantiles alone.
	_ = s.ensure().Add(x)
}

// combine adds everything but the quantiles.
func (s *Numbers) combine(o *Numbers) {
	switch {
	case o.N == 0:
		return
	case s.N == 0:
		s.N, s.Sum, s.Mean, s.Around, s.Min, s.Max = o.N, o.Sum, o.Mean, o.Around, o.Min, o.Max
		return
	}
	n, m := float64(s.N), float64(o.N)
	apart := o.Mean - s.Mean
	s.Mean += apart * m / (n + m)
	s.Around += o.Around + apart*apart*n*m/(n+m)
	s.Min, s.Max, s.N, s.Sum = min(s.Min, o.Min), max(s.Max, o.Max), s.N+o.N, s.Sum+o.Sum
}

// Merge adds everything in o.
func (s *Numbers) Merge(o *Numbers) {
	s.combine(o)
	if o.sketch != nil {
		_ = s.ensure().MergeWith(o.sketch) // it fails only for unequal mappings; there is one
	}
}

// Variance is that of the numbers as a sample; 0 of fewer than two.
func (s *Numbers) Variance() float64 {
	if s.N < 2 {
		return 0
	}
	return s.Around / float64(s.N-1)
}

// Deviation is the standard deviation.
func (s *Numbers) Deviation() float64 { return math.Sqrt(s.Variance()) }

// Quantile is the p-quantile within RelativeError, 0 of none.
func (s *Numbers) Quantile(p float64) float64 {
	if s.N == 0 || s.sketch == nil {
		return 0
	}
	x, err := s.sketch.GetValueAtQuantile(min(1, max(0, p)))
	if err != nil {
		return 0
	}
	return min(s.Max, max(s.Min, x))
}

// AppendBinary appends all of it, the quantiles in their library's own encoding.
func (s *Numbers) AppendBinary(b []byte) []byte {
	b = binary.AppendUvarint(append(b, binaryForm), s.N)
	for _, x := range []float64{s.Sum, s.Mean, s.Around, s.Min, s.Max} {
		b = appendFloat(b, x)
	}
	if s.sketch != nil {
		s.sketch.Encode(&b, true)
	}
	return b
}

// MergeBinary adds everything in what AppendBinary wrote.
func (s *Numbers) MergeBinary(b []byte) error {
	r := readBinary(b, binaryForm)
	o := Numbers{N: r.uint()}
	for _, x := range []*float64{&o.Sum, &o.Mean, &o.Around, &o.Min, &o.Max} {
		*x = r.float()
	}
	if r.err != nil {
		return fmt.Errorf("reading a summary of numbers: %w", r.err)
	}
	if len(r.b) > 0 {
		var err error
		if o.sketch, err = ddsketch.DecodeDDSketch(r.b, newStore, indexMapping); err != nil {
			return fmt.Errorf("reading a summary of numbers: %w", err)
		}
	}
	s.Merge(&o)
	return nil
}
