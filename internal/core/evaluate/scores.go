package evaluate

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

const (
	// leastProbability is what a probability counts as at least in the log loss, so that one row cannot
	// make it infinite.
	leastProbability = 1e-15
	// calibrationBins is how many bins of equal width confidence is counted in.
	calibrationBins = 10
)

// Scores holds the measures of predicted probabilities of classes.
type Scores struct {
	// Levels name the classes in the order of the scores.
	Levels []string
	// ROCAUC is the area under the receiver's curve of each class against the rest: the chance that a row
	// of the class scores higher than another, ties counting half. PRAUC is the average precision, the sum
	// of the precision at each threshold times the growth of the recall. Both are NaN for a class that
	// never, or always, occurs.
	ROCAUC, PRAUC []float64
	// MacroROCAUC and MacroPRAUC are means over the classes for which they are defined.
	MacroROCAUC, MacroPRAUC float64
	// LogLoss is the mean of −ln of the probability of the truth, which counts as 1e-15 at least.
	LogLoss float64
	// Brier is the mean over rows of the sum over classes of (probability − 1 for the truth, else 0)²
	// (Brier 1950), from 0 to 2.
	Brier float64
	// Calibration counts the confidence of the most probable class in ten bins; CalibrationError is the mean
	// of |right − confidence| over them, weighted by their rows.
	Calibration      []CalibrationBin
	CalibrationError float64
	// Undefined says which measures are NaN, and why.
	Undefined []string
}

// CalibrationBin is one bin of confidence.
type CalibrationBin struct {
	// Low and High bound it; High belongs to it.
	Low, High float64
	Weight    float64
	// Confidence is the mean confidence of its rows, Right the share of them that were right; NaN when it
	// has none.
	Confidence, Right float64
}

// OfScores measures probabilities of classes against the truth: one row of scores for each truth, one score
// for each of the levels, in [0, 1], together 1 within a thousandth. weights are one for each row, or nil.
func OfScores(levels, truth []string, scores [][]float64, weights []float64) (Scores, error) {
	if err := check(len(truth), len(scores), weights); err != nil {
		return Scores{}, err
	}
	s := Scores{Levels: levels, Calibration: make([]CalibrationBin, calibrationBins)}
	for i := range s.Calibration {
		s.Calibration[i].Low, s.Calibration[i].High = float64(i)/calibrationBins, float64(i+1)/calibrationBins
	}
	truths := make([]int, len(truth))
	var logs, brier ratioOf
	confidence, right := make([]ratioOf, calibrationBins), make([]ratioOf, calibrationBins)
	for i, row := range scores {
		t := slices.Index(levels, truth[i])
		if t < 0 {
			return s, fmt.Errorf("row %d: %q is none of the classes that have scores", i+1, truth[i])
		}
		if err := checkScores(row, len(levels)); err != nil {
			return s, fmt.Errorf("row %d: %w", i+1, err)
		}
		truths[i] = t
		w, best, square := weightOf(weights, i), 0, 0.0
		for k, p := range row {
			if p > row[best] {
				best = k
			}
			if k == t {
				p--
			}
			square += p * p
		}
		logs.add(-math.Log(max(leastProbability, row[t])), w)
		brier.add(square, w)
		bin := min(calibrationBins-1, max(0, int(math.Ceil(row[best]*calibrationBins))-1))
		confidence[bin].add(row[best], w)
		if best == t {
			right[bin].add(1, w)
		} else {
			right[bin].add(0, w)
		}
	}
	s.LogLoss, s.Brier = logs.of(), brier.of()
	for i := range s.Calibration {
		b := &s.Calibration[i]
		b.Weight, b.Confidence, b.Right = confidence[i].weight, confidence[i].of(), right[i].of()
		if b.Weight > 0 {
			s.CalibrationError += b.Weight / logs.weight * math.Abs(b.Right-b.Confidence)
		}
	}
	var roc, pr ratioOf
	for k, level := range levels {
		a, b := areas(truths, scores, weights, k)
		s.ROCAUC, s.PRAUC = append(s.ROCAUC, a), append(s.PRAUC, b)
		if math.IsNaN(a) {
			s.Undefined = append(s.Undefined, fmt.Sprintf("areas of %q: it occurs never or always", level))
			continue
		}
		roc.add(a, 1)
		pr.add(b, 1)
	}
	s.MacroROCAUC, s.MacroPRAUC = roc.of(), pr.of()
	return s, nil
}

func checkScores(row []float64, levels int) error {
	if len(row) != levels {
		return fmt.Errorf("%d scores for %d classes", len(row), levels)
	}
	sum := 0.0
	for _, p := range row {
		if !(p >= 0 && p <= 1) {
			return fmt.Errorf("the score %v is no probability", p)
		}
		sum += p
	}
	if math.Abs(sum-1) > 1e-3 {
		return fmt.Errorf("the scores sum up to %v, not to 1", sum)
	}
	return nil
}

// areas are those under both curves of one class against the rest.
func areas(truths []int, scores [][]float64, weights []float64, class int) (roc, pr float64) {
	return areasBy(orderOf(scores, class), truths, scores, weights, class)
}

// orderOf are the rows by how they score for a class, the highest first.
func orderOf(scores [][]float64, class int) []int {
	order := make([]int, len(scores))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(scores[b][class], scores[a][class]) })
	return order
}

// areasBy are the areas, of rows that are in order.
func areasBy(order, truths []int, scores [][]float64, weights []float64, class int) (roc, pr float64) {
	var positives, negatives float64
	for i, t := range truths {
		if t == class {
			positives += weightOf(weights, i)
		} else {
			negatives += weightOf(weights, i)
		}
	}
	if positives == 0 || negatives == 0 {
		return math.NaN(), math.NaN()
	}
	var hits, misses float64
	for at := 0; at < len(order); {
		var hit, miss float64
		for score := scores[order[at]][class]; at < len(order) && scores[order[at]][class] == score; at++ {
			if w := weightOf(weights, order[at]); truths[order[at]] == class {
				hit += w
			} else {
				miss += w
			}
		}
		roc += miss * (hits + hit/2)
		hits, misses = hits+hit, misses+miss
		if hit > 0 {
			pr += hit / positives * hits / (hits + misses)
		}
	}
	return roc / positives / negatives, pr
}
