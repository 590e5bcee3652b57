package evaluate

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"

	"innerladder/internal/core/interval"
)

// mostGroups is how many groups rows are dealt to for intervals: each is drawn or not as a whole, which for thousands
// of rows comes to the same as drawing rows, and costs as much however many there are.
const mostGroups = 500

// deal deals n rows to groups at random, each row its group; with at most 500 rows each is a group of its own.
func deal(n int) (group []int, groups int) {
	groups = min(n, mostGroups)
	group = make([]int, n)
	for i := range group {
		group[i] = i % groups
	}
	r := rand.New(rand.NewPCG(2, uint64(n)))
	r.Shuffle(n, func(i, j int) { group[i], group[j] = group[j], group[i] })
	return group, groups
}

// drawn are the 95 % intervals of measures that are found from how often each group was drawn (Efron 1979). A measure
// that is undefined in half of all draws has none.
func drawn(groups int, of measuring) map[string]interval.Interval {
	found := map[string][]float64{}
	redraw(groups, 3, func(times []float64) {
		for name, x := range of(times) {
			if !math.IsNaN(x) && !math.IsInf(x, 0) {
				found[name] = append(found[name], x)
			}
		}
	})
	out := map[string]interval.Interval{}
	for name, all := range found {
		if i := middle(all, 0.95); i.Bounded() {
			out[name] = i
		}
	}
	return out
}

// measuring finds measures by name from how often each group of rows was drawn.
type measuring func(times []float64) map[string]float64

// less finds by how much the measures of one are above those of the other, of the same rows.
func less(is, was measuring) measuring {
	return func(times []float64) map[string]float64 {
		out, other := is(times), was(times)
		for name := range out {
			if x, there := other[name]; there {
				out[name] -= x
			} else {
				delete(out, name)
			}
		}
		return out
	}
}

// RegressionBounds are the 95 % intervals of the measures of numbers by resampling, and of the median error by ranks,
// by name: mae, rmse, bias, r2, mape, smape, median_error. Rows are as of OfRegression.
func RegressionBounds(truth, predicted, weights []float64) map[string]interval.Interval {
	group, groups := deal(len(truth))
	out := drawn(groups, regressionOf(truth, predicted, weights, group, groups))
	if weights == nil {
		errors := make([]float64, len(truth))
		for i, y := range truth {
			errors[i] = math.Abs(predicted[i] - y)
		}
		slices.Sort(errors)
		low, high := interval.QuantileRanks(uint64(len(errors)), 0.5, 0.95)
		if low >= 1 && high <= uint64(len(errors)) {
			out["median_error"] = interval.Interval{Low: errors[low-1], High: errors[high-1]}
		}
	}
	return out
}

// BiasSize is the name of the size of the bias, whatever its sign, among differences: which of two is nearer to 0.
const BiasSize = "|bias|"

// RegressionDifferences are the 95 % intervals of by how much the measures of one prediction are above those of
// another of the same rows, by resampling of rows (paired), by name, and of BiasSize.
func RegressionDifferences(truth, is, was, weights []float64) map[string]interval.Interval {
	group, groups := deal(len(truth))
	of := func(predicted []float64) measuring {
		sums := regressionOf(truth, predicted, weights, group, groups)
		median := medianOf(truth, predicted, weights, group)
		return func(times []float64) map[string]float64 {
			out := sums(times)
			out["median_error"] = median(times)
			return out
		}
	}
	return drawn(groups, less(of(is), of(was)))
}

// regressionOf finds the measures of numbers.
func regressionOf(truth, predicted, weights []float64, group []int, groups int) measuring {
	type sums struct{ w, d, abs, square, y, yy, share, shareOf, both, bothOf float64 }
	of := make([]sums, groups)
	for i, y := range truth {
		w, d := weightOf(weights, i), predicted[i]-y
		g := &of[group[i]]
		g.w, g.d, g.abs, g.square = g.w+w, g.d+w*d, g.abs+w*math.Abs(d), g.square+w*d*d
		g.y, g.yy = g.y+w*y, g.yy+w*y*y
		if y != 0 {
			g.share, g.shareOf = g.share+w*math.Abs(d/y), g.shareOf+w
		}
		if both := math.Abs(y) + math.Abs(predicted[i]); both != 0 {
			g.both, g.bothOf = g.both+w*2*math.Abs(d)/both, g.bothOf+w
		}
	}
	return func(times []float64) map[string]float64 {
		var s sums
		for k, n := range times {
			g := of[k]
			s.w, s.d, s.abs, s.square = s.w+n*g.w, s.d+n*g.d, s.abs+n*g.abs, s.square+n*g.square
			s.y, s.yy = s.y+n*g.y, s.yy+n*g.yy
			s.share, s.shareOf = s.share+n*g.share, s.shareOf+n*g.shareOf
			s.both, s.bothOf = s.both+n*g.both, s.bothOf+n*g.bothOf
		}
		mean := s.y / s.w
		return map[string]float64{
			"mae": s.abs / s.w, "bias": s.d / s.w, BiasSize: math.Abs(s.d / s.w), "rmse": math.Sqrt(s.square / s.w),
			"r2": 1 - s.square/s.w/(s.yy/s.w-mean*mean), "mape": s.share / s.shareOf, "smape": s.both / s.bothOf,
		}
	}
}

// medianOf finds the median of the sizes of the errors, from how often each group was drawn.
func medianOf(truth, predicted, weights []float64, group []int) func(times []float64) float64 {
	order, errors := make([]int, len(truth)), make([]float64, len(truth))
	for i, y := range truth {
		order[i], errors[i] = i, math.Abs(predicted[i]-y)
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(errors[a], errors[b]) })
	return func(times []float64) float64 {
		all, below := 0.0, 0.0
		for i := range order {
			all += weightOf(weights, i) * times[group[i]]
		}
		for _, i := range order {
			if below += weightOf(weights, i) * times[group[i]]; 2*below >= all && below > 0 {
				return errors[i]
			}
		}
		return math.NaN()
	}
}

// ClassBounds are the 95 % intervals of the measures of classes, by resampling. Rows are as of OfClassification.
func ClassBounds(levels, truth, predicted []string, weights []float64) map[string]interval.Interval {
	group, groups := deal(len(truth))
	return drawn(groups, classesOf(levels, truth, predicted, weights, group, groups))
}

// ClassDifferences are the 95 % intervals of by how much the measures of some classes are above those of others of the
// same rows, by resampling of rows (paired). Levels are all that occur, in order.
func ClassDifferences(levels, truth, is, was []string, weights []float64) map[string]interval.Interval {
	group, groups := deal(len(truth))
	return drawn(groups, less(classesOf(levels, truth, is, weights, group, groups),
		classesOf(levels, truth, was, weights, group, groups)))
}

// classesOf finds the measures of classes.
func classesOf(levels, truth, predicted []string, weights []float64, group []int, groups int) measuring {
	k := len(levels)
	of := make([][]float64, groups)
	for i := range of {
		of[i] = make([]float64, k*k)
	}
	for i := range truth {
		t, _ := slices.BinarySearch(levels, truth[i])
		p, _ := slices.BinarySearch(levels, predicted[i])
		of[group[i]][t*k+p] += weightOf(weights, i)
	}
	return func(times []float64) map[string]float64 {
		c := Classification{Levels: levels, Confusion: make([][]float64, k)}
		for t := range c.Confusion {
			c.Confusion[t] = make([]float64, k)
		}
		for g, n := range times {
			for cell, w := range of[g] {
				c.Confusion[cell/k][cell%k] += n * w
			}
		}
		c.measure()
		return c.Named()
	}
}

// Named are the measures of classes by name, without those that are undefined.
func (c *Classification) Named() map[string]float64 {
	return defined(map[string]float64{
		"accuracy": c.Accuracy, "balanced_accuracy": c.BalancedAccuracy, "macro_f1": c.MacroF1,
		"weighted_f1": c.WeightedF1, "macro_precision": c.MacroPrecision, "macro_recall": c.MacroRecall,
		"matthews": c.Matthews,
	})
}

// Named are the measures of numbers by name, without those that are undefined.
func (r *Regression) Named() map[string]float64 {
	return defined(map[string]float64{
		"mae": r.MAE, "rmse": r.RMSE, "median_error": r.MedianError, "bias": r.Bias, "r2": r.R2, "mape": r.MAPE,
		"smape": r.SMAPE,
	})
}

// Named are the measures of scores by name, without those that are undefined.
func (s *Scores) Named() map[string]float64 {
	return defined(map[string]float64{
		"roc_auc": s.MacroROCAUC, "pr_auc": s.MacroPRAUC, "log_loss": s.LogLoss, "brier": s.Brier,
		"calibration_error": s.CalibrationError,
	})
}

func defined(m map[string]float64) map[string]float64 {
	for name, x := range m {
		if math.IsNaN(x) || math.IsInf(x, 0) {
			delete(m, name)
		}
	}
	return m
}

// ScoreBounds are the 95 % intervals of the measures of scores by name, by resampling; the calibration error has none.
// Rows are as of OfScores.
func ScoreBounds(levels, truth []string, scores [][]float64, weights []float64) map[string]interval.Interval {
	group, groups := deal(len(truth))
	return drawn(groups, scoresOf(levels, truth, scores, weights, group, groups))
}

// ScoreDifferences are the 95 % intervals of by how much the measures of some scores are above those of others of the
// same rows, by resampling of rows (paired).
func ScoreDifferences(levels, truth []string, is, was [][]float64, weights []float64) map[string]interval.Interval {
	group, groups := deal(len(truth))
	return drawn(groups, less(scoresOf(levels, truth, is, weights, group, groups),
		scoresOf(levels, truth, was, weights, group, groups)))
}

// scoresOf finds the measures of scores.
func scoresOf(levels, truth []string, scores [][]float64, weights []float64, group []int, groups int) measuring {
	truths := make([]int, len(truth))
	logs, briers, sums := make([]float64, groups), make([]float64, groups), make([]float64, groups)
	for i, row := range scores {
		t := slices.Index(levels, truth[i])
		truths[i] = t
		w, square := weightOf(weights, i), 0.0
		for k, p := range row {
			if k == t {
				p--
			}
			square += p * p
		}
		g := group[i]
		logs[g] -= w * math.Log(max(leastProbability, row[t]))
		briers[g], sums[g] = briers[g]+w*square, sums[g]+w
	}
	orders := make([][]int, len(levels))
	for k := range levels {
		orders[k] = orderOf(scores, k)
	}
	drawnWeights := make([]float64, len(truth))
	return func(times []float64) map[string]float64 {
		var log, brier, sum float64
		for g, n := range times {
			log, brier, sum = log+n*logs[g], brier+n*briers[g], sum+n*sums[g]
		}
		for i := range drawnWeights {
			drawnWeights[i] = weightOf(weights, i) * times[group[i]]
		}
		var roc, pr ratioOf
		for k := range levels {
			if a, b := areasBy(orders[k], truths, scores, drawnWeights, k); !math.IsNaN(a) {
				roc.add(a, 1)
				pr.add(b, 1)
			}
		}
		return map[string]float64{
			"log_loss": log / sum, "brier": brier / sum, "roc_auc": roc.of(), "pr_auc": pr.of(),
		}
	}
}
