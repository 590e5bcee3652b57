// Package judge makes a report of what a version predicted and what was true: measures with intervals, drawings, parts
// of the rows the worst first, and the worst rows.
package judge

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"

	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/interval"
)

const (
	// MostRows is how many rows are judged at once.
	MostRows = 1_000_000
	// leastSegment is how many rows a part must have to be told; worst is how many rows are shown, and mostSegments how
	// many parts.
	leastSegment = 20
	worst        = 20
	mostSegments = 60
	cells        = 24
	curvePoints  = 200
	mostClasses  = 100
)

// Rows are predictions with their truth: of numbers, or of classes.
type Rows struct {
	// Number is the number of each row in its table.
	Number []int64
	// Truth and Predicted are numbers; TruthClass and PredictedClass take their place where classes are predicted.
	Truth, Predicted           []float64
	TruthClass, PredictedClass []string
	// Levels and Scores are the classes with the probability of each, for each row, where there are some.
	Levels []string
	Scores [][]float64
	// Weights are one for each row; nil where all count the same.
	Weights []float64
	// Unit is that of the numbers.
	Unit string
	// Segments are the columns whose levels are looked at, each with a level for every row.
	Segments map[string][]string
	// Sensitive are those of them by whose groups quality and predictions are looked at.
	Sensitive []string
}

// Of makes the report of rows.
func Of(r Rows, limits map[string]evidence.Limit) (*evidence.Evaluation, error) {
	e := &evidence.Evaluation{Metrics: map[string]float64{}, Bounds: map[string][2]float64{}}
	if len(limits) > 0 {
		e.Limits = limits
	}
	var err error
	if r.TruthClass != nil {
		err = r.classes(e)
	} else {
		err = r.numbers(e)
	}
	if err != nil {
		return nil, err
	}
	e.Rows = int64(len(r.Number))
	for name := range limits {
		if _, there := e.Metrics[name]; !there {
			return nil, fault.New(fault.Invalid, "evaluate.limit", "there is no %s among the measures", name).
				In("limits").Do("use some of %v", slices.Sorted(maps.Keys(e.Metrics)))
		}
	}
	e.Groups = r.groups()
	return e, r.segments(e)
}

// add adds measures and their intervals, as far as those are bounded.
func add(e *evidence.Evaluation, metrics map[string]float64, bounds map[string]interval.Interval) {
	maps.Copy(e.Metrics, metrics)
	for name, i := range bounds {
		if _, there := metrics[name]; there && i.Bounded() {
			e.Bounds[name] = [2]float64{i.Low, i.High}
		}
	}
}

func (r *Rows) numbers(e *evidence.Evaluation) error {
	m, err := evaluate.OfRegression(r.Truth, r.Predicted, r.Weights)
	if err != nil {
		return err
	}
	e.Undefined = m.Undefined
	add(e, m.Named(), evaluate.RegressionBounds(r.Truth, r.Predicted, r.Weights))
	e.Residuals = r.residuals()
	for i, share := range evaluate.ResidualQuantiles {
		e.Quantiles = append(e.Quantiles, evidence.Quantile{Share: share, Value: m.Residuals[i]})
	}
	if c, ok := r.beside(); ok {
		e.Curves = append(e.Curves, c)
	}
	e.Worst = r.worstRows(r.off,
		func(i int) evidence.WorstRow {
			return evidence.WorstRow{Row: r.Number[i], Truth: r.Truth[i], Predicted: r.Predicted[i]}
		})
	return nil
}

// residuals counts prediction − truth in cells of equal width.
func (r *Rows) residuals() *evidence.Histogram {
	low, high := math.Inf(1), math.Inf(-1)
	for i := range r.Truth {
		d := r.Predicted[i] - r.Truth[i]
		low, high = min(low, d), max(high, d)
	}
	if !(low < high) {
		return nil
	}
	h := &evidence.Histogram{Unit: r.Unit, Counts: make([]int, cells)}
	for k := range cells + 1 {
		h.Edges = append(h.Edges, low+(high-low)*float64(k)/cells)
	}
	for i := range r.Truth {
		k := int(float64(cells) * (r.Predicted[i] - r.Truth[i] - low) / (high - low))
		h.Counts[min(cells-1, max(0, k))]++
	}
	return h
}

// beside is the mean truth of rows beside the mean prediction, in twenty groups of equal size by what was predicted.
func (r *Rows) beside() (evidence.XYCurve, bool) {
	order := make([]int, len(r.Truth))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(r.Predicted[a], r.Predicted[b]) })
	c := evidence.XYCurve{Name: "truth beside prediction", XLab: "mean prediction", YLab: "mean truth"}
	for some := range slices.Chunk(order, max(1, (len(order)+19)/20)) {
		x, y := 0.0, 0.0
		for _, i := range some {
			x, y = x+r.Predicted[i], y+r.Truth[i]
		}
		c.X, c.Y = append(c.X, x/float64(len(some))), append(c.Y, y/float64(len(some)))
	}
	return c, len(c.X) > 1
}

func (r *Rows) classes(e *evidence.Evaluation) error {
	m, err := evaluate.OfClassification(r.TruthClass, r.PredictedClass, r.Weights)
	if err != nil {
		return err
	}
	if len(m.Levels) > mostClasses {
		return fault.New(fault.Invalid, "evaluate.classes", "there are %d classes", len(m.Levels)).In("target").
			Do("name a column with at most %d different values; numbers are judged as numbers", mostClasses)
	}
	e.Undefined = m.Undefined
	add(e, m.Named(), evaluate.ClassBounds(m.Levels, r.TruthClass, r.PredictedClass, r.Weights))
	if len(m.Levels) > 1 {
		e.Confusion = &evidence.Confusion{Labels: m.Levels}
		for _, row := range m.Confusion {
			counts := make([]int, len(row))
			for k, w := range row {
				counts[k] = int(math.Round(w))
			}
			e.Confusion.Counts = append(e.Confusion.Counts, counts)
		}
	}
	for k, level := range m.Levels {
		rows := 0.0
		for _, w := range m.Confusion[k] {
			rows += w
		}
		e.Classes = append(e.Classes, evidence.ClassMeasures{
			Class: level, Rows: rows, Precision: defined(m.Precision[k]), Recall: defined(m.Recall[k]),
			F1: defined(m.F1[k]),
		})
	}
	sure := func(i int) float64 { return 0 }
	if r.Scores != nil {
		s, err := evaluate.OfScores(r.Levels, r.TruthClass, r.Scores, r.Weights)
		if err != nil {
			return err
		}
		e.Undefined = append(e.Undefined, s.Undefined...)
		add(e, s.Named(), evaluate.ScoreBounds(r.Levels, r.TruthClass, r.Scores, r.Weights))
		r.curves(e, &s)
		for k, level := range r.Levels {
			at := slices.IndexFunc(e.Classes, func(c evidence.ClassMeasures) bool { return c.Class == level })
			if at >= 0 {
				e.Classes[at].ROCAUC, e.Classes[at].PRAUC = defined(s.ROCAUC[k]), defined(s.PRAUC[k])
			}
		}
		sure = func(i int) float64 { return 1 - r.Scores[i][slices.Index(r.Levels, r.TruthClass[i])] }
	}
	e.Worst = r.worstRows(func(i int) float64 {
		if r.PredictedClass[i] == r.TruthClass[i] {
			return -1
		}
		return sure(i)
	}, func(i int) evidence.WorstRow {
		return evidence.WorstRow{Row: r.Number[i], Truth: r.TruthClass[i], Predicted: r.PredictedClass[i]}
	})
	return nil
}

// defined is a measure, nil where it is undefined.
func defined(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

// curves are those of scores: the receiver's of each class, and the calibration.
func (r *Rows) curves(e *evidence.Evaluation, s *evaluate.Scores) {
	for k, level := range r.Levels[:min(len(r.Levels), 6)] {
		if x, y := evaluate.Receiver(r.Levels, r.TruthClass, r.Scores, r.Weights, k, curvePoints); len(x) > 1 {
			e.Curves = append(e.Curves, evidence.XYCurve{
				Name: "receiver of " + level, XLab: "share of the others", YLab: "share of " + level, X: x, Y: y,
			})
		}
		if x, y := evaluate.PrecisionRecall(r.Levels, r.TruthClass, r.Scores, r.Weights, k, curvePoints); len(x) > 1 {
			e.Curves = append(e.Curves, evidence.XYCurve{
				Name: "precision of " + level, XLab: "recall of " + level, YLab: "precision", X: x, Y: y,
			})
		}
	}
	c := evidence.XYCurve{Name: "calibration", XLab: "confidence", YLab: "share that is right"}
	for _, b := range s.Calibration {
		if b.Weight > 0 {
			c.X, c.Y = append(c.X, b.Confidence), append(c.Y, b.Right)
		}
	}
	if len(c.X) > 1 {
		e.Curves = append(e.Curves, c)
	}
}

// worstRows are those that are worst by a measure, which is below 0 where nothing is wrong.
func (r *Rows) worstRows(by func(int) float64, row func(int) evidence.WorstRow) []evidence.WorstRow {
	order := make([]int, len(r.Number))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(by(b), by(a)) })
	var out []evidence.WorstRow
	for _, i := range order[:min(worst, len(order))] {
		if by(i) >= 0 {
			out = append(out, row(i))
		}
	}
	return out
}

// MeanOf measures the mean of a value over some rows.
func MeanOf(value func(int) float64) func(rows []int, confidence float64) evaluate.Estimate {
	return func(rows []int, confidence float64) evaluate.Estimate {
		sum, squares := 0.0, 0.0
		for _, i := range rows {
			x := value(i)
			sum, squares = sum+x, squares+x*x
		}
		return evaluate.Mean(sum, squares, float64(len(rows)), confidence)
	}
}

// SegmentOf is a part of the rows with the measure that was looked at.
func SegmentOf(s evaluate.Segment, name string) evidence.Segment {
	one := evidence.Segment{
		Name: fmt.Sprintf("%s: %s", s.Column, s.Level), Rows: int64(s.N),
		Metrics: map[string]float64{name: s.Value}, Worse: s.Worse,
	}
	if s.Bounded() {
		one.Bounds = map[string][2]float64{name: {s.Low, s.High}}
	}
	return one
}

// segments measures the levels of columns, the worst first.
func (r *Rows) segments(e *evidence.Evaluation) error {
	name, higher, value := "mae", false, r.off
	if r.TruthClass != nil {
		name, higher = "accuracy", true
		value = func(i int) float64 { return 1 - r.off(i) }
	}
	_, all, err := evaluate.Segments(len(r.Number), leastSegment, r.Segments, higher, MeanOf(value))
	if err != nil {
		return err
	}
	for _, s := range all[:min(len(all), mostSegments)] {
		e.Segments = append(e.Segments, SegmentOf(s, name))
	}
	return nil
}
