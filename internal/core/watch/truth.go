package watch

import (
	"fmt"
	"maps"
	"math"
	"slices"
)

// The signals of how right predictions are, by output. They are judged as the truth comes.
const (
	// MAE is the mean absolute error of numbers, Accuracy the share of classes that were right.
	MAE      = "mae"
	Accuracy = "accuracy"
)

// Truths are how far predictions of an output of main were off whose truth came since the last look: absolute errors of
// numbers; of classes 1 where it was wrong, and 0.
type Truths struct {
	Number bool
	Errors []float64
}

// ofTruths looks at how right predictions are.
func (w *Watched) ofTruths(set *Set, s *Seen, u *Usual) (out []Look) {
	for _, output := range slices.Sorted(maps.Keys(s.Truths)) {
		t := s.Truths[output]
		signal, look := Accuracy, wrongShare
		if t.Number {
			signal, look = MAE, meanError
		}
		if r, ok := set.rule(signal, output); ok && len(t.Errors) > 0 {
			out = append(out, look(r, Name(signal, output), output, t.Errors, u))
		}
	}
	return out
}

// wrongShare looks at the share of classes that were wrong. A limit is of those that are right, at least.
func wrongShare(r Rule, name, output string, errors []float64, u *Usual) Look {
	l := Look{Signal: name, Rule: r, What: "predictions of " + output + " were wrong"}
	if r.Limit.Given {
		l.Allowed = 1 - r.Limit.Value
	}
	if r.Versus == Registered {
		was, known := u.Metrics[Accuracy]
		if !known && !r.Limit.Given {
			l.Why = notRegistered(Accuracy)
			return l
		}
		if known {
			l.Allowed = max(l.Allowed, r.Times*(1-was))
		}
	}
	for _, e := range errors {
		l.Seen, l.Bad = l.Seen+1, l.Bad+e
	}
	return l
}

// clipped is at how many times what is allowed an error counts as no larger.
const clipped = 5

// stakes are the bets on how far the mean of clipped errors is above what is allowed (Waudby-Smith and Ramdas 2024):
// with errors as shares of the largest that counts, 1 + λ·(x − 1/clipped) is never negative.
var stakes = []float64{0.3, 1, 2.5, 4.5}

// meanError looks at the mean absolute error of numbers.
func meanError(r Rule, name, output string, errors []float64, u *Usual) Look {
	l := Look{Signal: name, Rule: r, Allowed: r.Limit.Value, What: output}
	if r.Versus == Registered {
		was, known := u.Metrics[MAE]
		if !known && !r.Limit.Given {
			l.Why = notRegistered(MAE)
			return l
		}
		l.Allowed = max(l.Allowed, r.Times*was)
	}
	if l.Allowed <= 0 {
		l.Why = "The error that is allowed is 0."
		return l
	}
	l.Bets = make([]float64, len(stakes))
	squares := 0.0
	for _, e := range errors {
		l.Seen, l.Bad, squares = l.Seen+1, l.Bad+e, squares+e*e
		share := min(e/(clipped*l.Allowed), 1)
		for i, stake := range stakes {
			l.Bets[i] += math.Log1p(stake * (share - 1.0/clipped))
		}
	}
	l.Slack = 2*math.Sqrt(max(0, squares-l.Bad*l.Bad/l.Seen)) + 1e-12
	return l
}

func notRegistered(metric string) string {
	return fmt.Sprintf("Main has no %s from its registration to be held against.", metric)
}
