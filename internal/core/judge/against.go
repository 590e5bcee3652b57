package judge

import (
	"maps"
	"math"
	"slices"

	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/interval"
	"innerladder/internal/core/metric"
)

// Other is what another version predicted for the same rows, in the form that the rows have.
type Other struct {
	Version string
	// Has says for which rows it predicted something; the others are left out.
	Has            []bool
	Predicted      []float64
	PredictedClass []string
	// Scores are in the order of the levels of the rows; nil where they are not known.
	Scores [][]float64
}

// picked are the values at some places; nil of nil.
func picked[T any](all []T, at []int) []T {
	if all == nil {
		return nil
	}
	out := make([]T, len(at))
	for k, i := range at {
		out[k] = all[i]
	}
	return out
}

// Against compares the predictions of rows with those of another version for the same rows.
func (r *Rows) Against(o Other) (*evidence.Beside, error) {
	var both []int
	for i, has := range o.Has {
		if has {
			both = append(both, i)
		}
	}
	a := &evidence.Beside{
		Version: o.Version, Rows: int64(len(both)), LeftOut: int64(len(o.Has) - len(both)),
		Differences: []evidence.MetricDifference{},
	}
	if len(both) == 0 {
		return a, nil
	}
	is := *r
	if len(both) < len(o.Has) {
		is = Rows{
			Number: picked(r.Number, both), Truth: picked(r.Truth, both), Predicted: picked(r.Predicted, both),
			TruthClass: picked(r.TruthClass, both), PredictedClass: picked(r.PredictedClass, both), Levels: r.Levels,
			Scores: picked(r.Scores, both), Weights: picked(r.Weights, both), Segments: map[string][]string{},
		}
		for name, levels := range r.Segments {
			is.Segments[name] = picked(levels, both)
		}
		o.Predicted, o.PredictedClass = picked(o.Predicted, both), picked(o.PredictedClass, both)
		o.Scores = picked(o.Scores, both)
	}
	was := is
	was.Predicted, was.PredictedClass, was.Scores = o.Predicted, o.PredictedClass, o.Scores
	if err := is.differences(&was, a); err != nil {
		return nil, err
	}
	is.loses(&was, a)
	return a, nil
}

// named are the measures of the rows by name.
func (r *Rows) named() (map[string]float64, error) {
	if r.TruthClass == nil {
		m, err := evaluate.OfRegression(r.Truth, r.Predicted, r.Weights)
		return m.Named(), err
	}
	m, err := evaluate.OfClassification(r.TruthClass, r.PredictedClass, r.Weights)
	out := m.Named()
	if err == nil && r.Scores != nil {
		var s evaluate.Scores
		s, err = evaluate.OfScores(r.Levels, r.TruthClass, r.Scores, r.Weights)
		maps.Copy(out, s.Named())
	}
	return out, err
}

// differences finds those of the measures.
func (r *Rows) differences(was *Rows, a *evidence.Beside) error {
	mine, err := r.named()
	if err != nil {
		return err
	}
	theirs, err := was.named()
	if err != nil {
		return err
	}
	var bounds map[string]interval.Interval
	if r.TruthClass == nil {
		bounds = evaluate.RegressionDifferences(r.Truth, r.Predicted, was.Predicted, r.Weights)
	} else {
		levels := slices.Concat(r.TruthClass, r.PredictedClass, was.PredictedClass)
		slices.Sort(levels)
		bounds = evaluate.ClassDifferences(slices.Compact(levels), r.TruthClass, r.PredictedClass, was.PredictedClass,
			r.Weights)
	}
	if r.Scores != nil && was.Scores != nil {
		maps.Copy(bounds, evaluate.ScoreDifferences(r.Levels, r.TruthClass, r.Scores, was.Scores, r.Weights))
	}
	for _, name := range slices.Sorted(maps.Keys(mine)) {
		other, there := theirs[name]
		if !there {
			continue
		}
		d := evidence.MetricDifference{
			Metric: name, Is: mine[name], Was: other, Difference: mine[name] - other, Verdict: evidence.CannotTell,
		}
		if i, there := bounds[name]; there && i.Bounded() {
			d.Bounds = &[2]float64{i.Low, i.High}
			d.Verdict = verdictOf(name, bounds)
		}
		a.Differences = append(a.Differences, d)
	}
	return nil
}

// verdictOf says what the interval of the difference of a measure says.
func verdictOf(name string, bounds map[string]interval.Interval) evidence.Lead {
	i, lower := bounds[name], metric.LowerIsBetter(name)
	if name == "bias" { // better is who is nearer to 0
		i, lower = bounds[evaluate.BiasSize], true
	}
	if !lower {
		i = interval.Interval{Low: -i.High, High: -i.Low}
	}
	switch {
	case i.Low == 0 && i.High == 0:
		return evidence.Same
	case i.Low > 0:
		return evidence.Worse
	case i.High < 0:
		return evidence.Better
	}
	return evidence.CannotTell
}

// off is by how much a row is off: the size of its error, or 1 where its class is wrong.
func (r *Rows) off(i int) float64 {
	if r.TruthClass == nil {
		return math.Abs(r.Predicted[i] - r.Truth[i])
	}
	if r.PredictedClass[i] == r.TruthClass[i] {
		return 0
	}
	return 1
}

// loses finds where the rows are further off than those of another.
func (r *Rows) loses(was *Rows, a *evidence.Beside) {
	name := "mae"
	if r.TruthClass != nil {
		name = "error_rate"
	}
	more := func(i int) float64 { return r.off(i) - was.off(i) }
	_, all, err := evaluate.Segments(len(r.Number), leastSegment, r.Segments, false, MeanOf(more))
	if err == nil {
		for _, s := range all[:min(len(all), mostSegments)] {
			one := SegmentOf(s, name)
			one.Worse = s.Bounded() && s.Low > 0
			a.Segments = append(a.Segments, one)
		}
	}
	a.Worst = r.worstRows(func(i int) float64 {
		if m := more(i); m > 0 {
			return m
		}
		return -1
	}, func(i int) evidence.WorstRow {
		if r.TruthClass != nil {
			return evidence.WorstRow{
				Row: r.Number[i], Truth: r.TruthClass[i], Predicted: r.PredictedClass[i], Other: was.PredictedClass[i],
			}
		}
		return evidence.WorstRow{
			Row: r.Number[i], Truth: r.Truth[i], Predicted: r.Predicted[i], Other: was.Predicted[i],
		}
	})
}
