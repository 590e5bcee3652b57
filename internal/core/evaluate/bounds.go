package evaluate

import (
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
func drawn(groups int, of func(times []float64) map[string]float64) map[string]interval.Interval {
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

// RegressionBounds are the 95 % intervals of MAE, RMSE, bias and R² by resampling, and of the median error by ranks,
// by name: mae, rmse, bias, r2, median_error. Rows are as of OfRegression.
func RegressionBounds(truth, predicted, weights []float64) map[string]interval.Interval {
	type sums struct{ w, d, abs, square, y, yy float64 }
	group, groups := deal(len(truth))
	of := make([]sums, groups)
	errors := make([]float64, len(truth))
	for i, y := range truth {
		w, d := weightOf(weights, i), predicted[i]-y
		errors[i] = math.Abs(d)
		g := &of[group[i]]
		g.w, g.d, g.abs, g.square = g.w+w, g.d+w*d, g.abs+w*math.Abs(d), g.square+w*d*d
		g.y, g.yy = g.y+w*y, g.yy+w*y*y
	}
	out := drawn(groups, func(times []float64) map[string]float64 {
		var s sums
		for k, n := range times {
			g := of[k]
			s.w, s.d, s.abs, s.square = s.w+n*g.w, s.d+n*g.d, s.abs+n*g.abs, s.square+n*g.square
			s.y, s.yy = s.y+n*g.y, s.yy+n*g.yy
		}
		mean := s.y / s.w
		return map[string]float64{
			"mae": s.abs / s.w, "bias": s.d / s.w, "rmse": math.Sqrt(s.square / s.w),
			"r2": 1 - s.square/s.w/(s.yy/s.w-mean*mean),
		}
	})
	if weights == nil {
		slices.Sort(errors)
		low, high := interval.QuantileRanks(uint64(len(errors)), 0.5, 0.95)
		if low >= 1 && high <= uint64(len(errors)) {
			out["median_error"] = interval.Interval{Low: errors[low-1], High: errors[high-1]}
		}
	}
	return out
}

// ClassBounds are the 95 % intervals of the measures of classes, by resampling. Rows are as of OfClassification.
func ClassBounds(levels, truth, predicted []string, weights []float64) map[string]interval.Interval {
	group, groups := deal(len(truth))
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
	return drawn(groups, func(times []float64) map[string]float64 {
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
	})
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
	return drawn(groups, func(times []float64) map[string]float64 {
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
	})
}

// Receiver is the receiver's curve of a class against the rest, from (0, 0) to (1, 1): the share of the others above
// each threshold, and that of the class; at most so many points. Nil where the class occurs never or always.
func Receiver(levels, truth []string, scores [][]float64, class, most int) (x, y []float64) {
	hits, misses, positives := 0.0, 0.0, 0.0
	for _, t := range truth {
		if t == levels[class] {
			positives++
		}
	}
	negatives := float64(len(truth)) - positives
	if positives == 0 || negatives == 0 {
		return nil, nil
	}
	order := orderOf(scores, class)
	every := max(1, len(order)/most)
	x, y = []float64{0}, []float64{0}
	for i, row := range order {
		if truth[row] == levels[class] {
			hits++
		} else {
			misses++
		}
		ends := i+1 == len(order) || scores[order[i+1]][class] != scores[row][class]
		if ends && ((i+1)/every != (len(x)-1) || i+1 == len(order)) {
			x, y = append(x, misses/negatives), append(y, hits/positives)
		}
	}
	return x, y
}
