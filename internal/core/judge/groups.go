package judge

import (
	"maps"
	"slices"

	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/interval"
)

// groups measure quality and predictions by the levels of sensitive columns, each with its interval: all of them
// together hold with 95 % (Bonferroni). Levels of few rows are left out.
func (r *Rows) groups() []evidence.Group {
	type key struct{ column, level string }
	rows := map[key][]int{}
	for _, name := range r.Sensitive {
		for i, level := range r.Segments[name] {
			k := key{name, level}
			rows[k] = append(rows[k], i)
		}
	}
	maps.DeleteFunc(rows, func(_ key, some []int) bool { return len(some) < leastSegment })
	confidence := 1 - 0.05/float64(max(1, len(rows)))
	var out []evidence.Group
	for k, some := range rows {
		g := evidence.Group{
			Column: k.column, Level: k.level, Rows: int64(len(some)), Quality: map[string]evidence.Between{},
			Predictions: map[string]evidence.Between{},
		}
		if r.TruthClass == nil {
			g.Quality["mae"] = between(MeanOf(r.off)(some, confidence))
			bias := func(i int) float64 { return r.Predicted[i] - r.Truth[i] }
			g.Quality["bias"] = between(MeanOf(bias)(some, confidence))
			g.Predictions["mean"] = between(MeanOf(func(i int) float64 { return r.Predicted[i] })(some, confidence))
		} else {
			r.classesOf(&g, some, confidence)
		}
		out = append(out, g)
	}
	slices.SortFunc(out, func(a, b evidence.Group) int {
		if a.Column != b.Column {
			return slices.Index(r.Sensitive, a.Column) - slices.Index(r.Sensitive, b.Column)
		}
		if a.Level < b.Level {
			return -1
		}
		return 1
	})
	return out
}

// classesOf measures the classes of a group: the share that is right, and that of each class that is predicted.
func (r *Rows) classesOf(g *evidence.Group, some []int, confidence float64) {
	right, predicted := 0.0, map[string]float64{}
	for _, i := range some {
		predicted[r.PredictedClass[i]]++
		right += 1 - r.off(i)
	}
	share := func(k float64) evidence.Between {
		n := float64(len(some))
		w := interval.Wilson(k, n, confidence)
		return evidence.Between{Value: k / n, Low: w.Low, High: w.High}
	}
	g.Quality["accuracy"] = share(right)
	for class, k := range predicted {
		if len(g.Predictions) < mostClasses {
			g.Predictions[class] = share(k)
		}
	}
}

func between(e evaluate.Estimate) evidence.Between {
	return evidence.Between{Value: e.Value, Low: e.Low, High: e.High}
}
