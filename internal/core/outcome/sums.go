package outcome

import (
	"maps"
	"math"
	"slices"

	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/interval"
)

// Sums are what is kept of many pairs of an output: they add up, so that any span can be measured.
type Sums struct {
	// Requests are how many requests have at least one pair, Rows how many pairs there are.
	Requests int64 `json:"requests"`
	Rows     int64 `json:"rows"`
	// Numbers have the sums of errors (prediction less truth), of their absolute values and their second and fourth
	// powers, and of the truth and its squares.
	Errors       float64 `json:"errors,omitempty"`
	Absolute     float64 `json:"absolute,omitempty"`
	Squares      float64 `json:"squares,omitempty"`
	Fourths      float64 `json:"fourths,omitempty"`
	Truth        float64 `json:"truth,omitempty"`
	TruthSquares float64 `json:"truth_squares,omitempty"`
	// Confusion counts classes by truth and prediction.
	Confusion map[string]map[string]int64 `json:"confusion,omitempty"`
}

const (
	// mostClasses are told apart; what comes beyond them is other.
	mostClasses = 50
	otherClass  = "other classes"
)

// Add adds a pair, of a request that had none yet when first is set.
func (s *Sums) Add(p *Pair, first bool) { s.take(p, first, 1) }

// Remove takes a pair out that was added.
func (s *Sums) Remove(p *Pair) { s.take(p, false, -1) }

func (s *Sums) take(p *Pair, first bool, n int64) {
	s.Rows += n
	if first {
		s.Requests++
	}
	if !p.Number {
		s.count(p.TruthClass, p.PredictedClass, n)
		return
	}
	e, sign := p.Error(), float64(n)
	s.Errors += sign * e
	s.Absolute += sign * math.Abs(e)
	s.Squares += sign * e * e
	s.Fourths += sign * e * e * e * e
	s.Truth += sign * p.Truth
	s.TruthSquares += sign * p.Truth * p.Truth
}

func (s *Sums) count(truth, predicted string, n int64) {
	if s.Confusion == nil {
		s.Confusion = map[string]map[string]int64{}
	}
	known := func(class string) string {
		if _, is := s.Confusion[class]; is || len(s.Confusion) < mostClasses {
			return class
		}
		return otherClass
	}
	truth, predicted = known(truth), known(predicted)
	for _, class := range []string{truth, predicted} {
		if s.Confusion[class] == nil {
			s.Confusion[class] = map[string]int64{}
		}
	}
	s.Confusion[truth][predicted] += n
	if s.Confusion[truth][predicted] == 0 {
		delete(s.Confusion[truth], predicted)
	}
}

// Merge adds other sums.
func (s *Sums) Merge(o *Sums) {
	s.Requests, s.Rows = s.Requests+o.Requests, s.Rows+o.Rows
	s.Errors, s.Absolute = s.Errors+o.Errors, s.Absolute+o.Absolute
	s.Squares, s.Fourths = s.Squares+o.Squares, s.Fourths+o.Fourths
	s.Truth, s.TruthSquares = s.Truth+o.Truth, s.TruthSquares+o.TruthSquares
	for _, truth := range slices.Sorted(maps.Keys(o.Confusion)) {
		for _, predicted := range slices.Sorted(maps.Keys(o.Confusion[truth])) {
			s.count(truth, predicted, o.Confusion[truth][predicted])
		}
	}
}

// Measure is one measure of how right predictions were, with its interval; Low and High are nil where it is open.
type Measure struct {
	Name  string   `json:"name"`
	Value float64  `json:"value"`
	Low   *float64 `json:"low,omitempty"`
	High  *float64 `json:"high,omitempty"`
}

// Measures are what sums say, the most telling first, each with an interval that takes rows as independent: of means by
// their variance, of a root mean square by that of the squares, of a share after Wilson. There are none of no rows, and
// one that is undefined is left out.
func (s *Sums) Measures(confidence float64) (out []Measure) {
	if s.Rows <= 0 {
		return nil
	}
	if s.Confusion != nil {
		return s.ofClasses(confidence)
	}
	n := float64(s.Rows)
	of := func(sum, squares float64) interval.Interval {
		if s.Rows < interval.LeastOfMean {
			return interval.Interval{Low: math.Inf(-1), High: math.Inf(1)}
		}
		return evaluate.Mean(sum, squares, n, confidence).Interval
	}
	absolute, square := of(s.Absolute, s.Squares), of(s.Squares, s.Fourths)
	absolute.Low = max(0, absolute.Low)
	root := interval.Interval{Low: math.Sqrt(max(0, square.Low)), High: math.Sqrt(square.High)}
	out = append(out, measure("mae", s.Absolute/n, absolute), measure("rmse", math.Sqrt(s.Squares/n), root),
		measure("bias", s.Errors/n, of(s.Errors, s.Squares)))
	if variance := s.TruthSquares - s.Truth*s.Truth/n; s.Rows > 1 && variance > 1e-9*s.TruthSquares {
		out = append(out, Measure{Name: "r2", Value: 1 - s.Squares/variance})
	}
	return out
}

func measure(name string, value float64, within interval.Interval) Measure {
	m := Measure{Name: name, Value: value}
	if within.Bounded() {
		m.Low, m.High = &within.Low, &within.High
	}
	return m
}

// Against says whether a measure is surely better or worse than it was when the version was registered.
func (m *Measure) Against(registered float64, lowerIsBetter bool) string {
	switch {
	case m.Low == nil || *m.Low <= registered && registered <= *m.High:
		return "not enough to tell"
	case *m.Low > registered == lowerIsBetter:
		return "worse"
	}
	return "better"
}

// ofClasses are the measures of classes.
func (s *Sums) ofClasses(confidence float64) (out []Measure) {
	var truth, predicted []string
	var weights []float64
	right := 0.0
	for _, t := range slices.Sorted(maps.Keys(s.Confusion)) {
		for _, p := range slices.Sorted(maps.Keys(s.Confusion[t])) {
			n := float64(s.Confusion[t][p])
			truth, predicted, weights = append(truth, t), append(predicted, p), append(weights, n)
			if t == p {
				right += n
			}
		}
	}
	c, err := evaluate.OfClassification(truth, predicted, weights)
	if err != nil {
		return nil
	}
	out = append(out, measure("accuracy", c.Accuracy, interval.Wilson(right, c.Weight, confidence)))
	for _, m := range []Measure{
		{Name: "balanced_accuracy", Value: c.BalancedAccuracy},
		{Name: "macro_f1", Value: c.MacroF1},
		{Name: "matthews", Value: c.Matthews},
	} {
		if !math.IsNaN(m.Value) {
			out = append(out, m)
		}
	}
	return out
}
