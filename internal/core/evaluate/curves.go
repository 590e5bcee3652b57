package evaluate

// eachThreshold hands on the weight of the rows of a class, and that of the others, whose score is at or above each
// different score, from the highest down; and the weights of all. It is not called where the class occurs never or
// always. Rows are as of OfScores.
func eachThreshold(levels, truth []string, scores [][]float64, weights []float64, class int,
	at func(hits, misses, positives, negatives float64),
) {
	var hits, misses, positives, negatives float64
	for i, t := range truth {
		if t == levels[class] {
			positives += weightOf(weights, i)
		} else {
			negatives += weightOf(weights, i)
		}
	}
	if positives == 0 || negatives == 0 {
		return
	}
	order := orderOf(scores, class)
	for i, row := range order {
		if truth[row] == levels[class] {
			hits += weightOf(weights, row)
		} else {
			misses += weightOf(weights, row)
		}
		if i+1 == len(order) || scores[order[i+1]][class] != scores[row][class] {
			at(hits, misses, positives, negatives)
		}
	}
}

// thin leaves about so many points of a curve, and the last.
func thin(x, y []float64, most int) ([]float64, []float64) {
	every := max(1, (len(x)+most-1)/most)
	if every == 1 {
		return x, y
	}
	var a, b []float64
	for i := range x {
		if i%every == 0 || i+1 == len(x) {
			a, b = append(a, x[i]), append(b, y[i])
		}
	}
	return a, b
}

// Receiver is the receiver's curve of a class against the rest, from (0, 0) to (1, 1): the share of the others at or
// above each threshold, and that of the class; about so many points. Nil where the class occurs never or always. Rows
// are as of OfScores.
func Receiver(levels, truth []string, scores [][]float64, weights []float64, class, most int) (x, y []float64) {
	eachThreshold(levels, truth, scores, weights, class, func(hits, misses, positives, negatives float64) {
		if x == nil {
			x, y = []float64{0}, []float64{0}
		}
		x, y = append(x, misses/negatives), append(y, hits/positives)
	})
	return thin(x, y, most)
}

// PrecisionRecall is the curve of the precision of a class over its recall, from the highest threshold down; about so
// many points. Nil where the class occurs never or always. Rows are as of OfScores.
func PrecisionRecall(levels, truth []string, scores [][]float64, weights []float64, class, most int,
) (recall, precision []float64) {
	eachThreshold(levels, truth, scores, weights, class, func(hits, misses, positives, _ float64) {
		recall, precision = append(recall, hits/positives), append(precision, hits/(hits+misses))
	})
	return thin(recall, precision, most)
}
