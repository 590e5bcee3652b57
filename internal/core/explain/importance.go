package explain

import (
	"math"
	"math/rand/v2"

	"innerladder/internal/core/evidence"

	"gonum.org/v1/gonum/stat"
)

const (
	// UsualRows is how many rows of a table are drawn where nothing is said, LeastRows and MostRows how few and how
	// many may be; UsualRounds is how often an input is shuffled, MostRounds at most.
	UsualRows   = 500
	LeastRows   = 20
	MostRows    = 5000
	UsualRounds = 5
	MostRounds  = 50
)

// Shuffled is from which row each row gets the value of an input in a round: the same for the same round and number of
// rows.
func Shuffled(rows, round int) []int {
	return rand.New(rand.NewPCG(13, uint64(round))).Perm(rows)
}

// Predictions are what a version said of rows, number or class; a row without an answer is not there.
type Predictions struct {
	Number []float64
	Class  []string
	There  []bool
}

// Importance is how much a version relies on an input (permutation importance: Breiman 2001; Fisher, Rudin, Dominici
// 2019): Moves is by how much its predictions are others when the input has the values of other rows, as the mean of
// the absolute difference in the unit of the output, of classes the share that is another; Loss is by how much its
// error rises, the mean absolute error or the share of wrong classes. Both are with their interval of 95 % over rows.
// They are small of an input that others stand in for.
type Importance struct {
	// Rows are those that were answered in all rounds; with none, nothing is known.
	Rows  int
	Moves evidence.Between
	Loss  *evidence.Between
}

// ImportanceOf reads the predictions of rounds in which one input was shuffled. Truth is what is true of the rows, nil
// where that is not known. Rows that lack an answer in some round are left out.
func ImportanceOf(base, truth *Predictions, rounds []*Predictions) Importance {
	var moves, losses []float64
	for i := range base.There {
		whole := base.There[i] && (truth == nil || truth.There[i])
		for _, r := range rounds {
			whole = whole && r.There[i]
		}
		if !whole {
			continue
		}
		moved, loss := 0.0, 0.0
		for _, r := range rounds {
			moved += apart(base, r, i)
			if truth != nil {
				loss += apart(truth, r, i) - apart(truth, base, i)
			}
		}
		n := float64(len(rounds))
		moves, losses = append(moves, moved/n), append(losses, loss/n)
	}
	out := Importance{Rows: len(moves), Moves: meanOf(moves)}
	if truth != nil {
		loss := meanOf(losses)
		out.Loss = &loss
	}
	return out
}

// apart is how far two predictions of a row are from each other: of classes 1 where they are others.
func apart(a, b *Predictions, i int) float64 {
	switch {
	case a.Class == nil:
		return math.Abs(a.Number[i] - b.Number[i])
	case a.Class[i] == b.Class[i]:
		return 0
	}
	return 1
}

// meanOf is a mean with its interval of 95 %.
func meanOf(x []float64) evidence.Between {
	if len(x) == 0 {
		return evidence.Between{}
	}
	mean, half := stat.Mean(x, nil), 0.0
	if len(x) > 1 {
		half = z * math.Sqrt(stat.Variance(x, nil)/float64(len(x)))
	}
	return evidence.Between{Value: mean, Low: mean - half, High: mean + half}
}

// z is the quantile of the normal distribution for an interval of 95 %.
const z = 1.959963984540054

// LossOf is the mean error of predictions, and of how many rows.
func LossOf(base, truth *Predictions) (loss float64, rows int) {
	for i := range base.There {
		if base.There[i] && truth.There[i] {
			loss, rows = loss+apart(truth, base, i), rows+1
		}
	}
	return loss / float64(max(rows, 1)), rows
}
