package metric

import (
	"maps"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// Worsening is by how much the value `to` of a metric is worse than `from`, in the
// metric's own unit; below zero when it is better. A bias is better nearer to zero.
func Worsening(metric string, from, to float64, lowerIsBetter bool) float64 {
	switch {
	case strings.Contains(strings.ToLower(metric), "bias"):
		return math.Abs(to) - math.Abs(from)
	case lowerIsBetter:
		return to - from
	}
	return from - to
}

// lower and higher name the metrics for which less or more is better, by the parts of
// their names.
var (
	lower = []string{
		"rmse", "rmsle", "mae", "mape", "mse", "error", "loss", "brier", "bias", "latency", "ece",
		"perplexity", "deviance", "crps", "pinball", "false_positive", "false_negative",
	}
	higher = []string{
		"accuracy", "f1", "auc", "r2", "precision", "recall", "sensitivity", "specificity", "kappa",
		"mcc", "matthews", "ndcg", "explained_variance", "likelihood", "iou", "dice",
	}
)

// LowerIsBetter reports whether a smaller value of the metric is the better one, by
// the field's habit for its name; of a name that says nothing, more is taken to be better.
func LowerIsBetter(metric string) bool { return named(lower, metric) }

// SaysWhatIsBetter reports whether the name of a metric says which way is better.
func SaysWhatIsBetter(metric string) bool { return named(lower, metric) || named(higher, metric) }

func named(parts []string, metric string) bool {
	m := strings.ToLower(metric)
	return slices.ContainsFunc(parts, func(part string) bool { return strings.Contains(m, part) })
}

// Check refuses metrics that are no numbers.
func Check(metrics map[string]float64) error {
	for _, name := range slices.Sorted(maps.Keys(metrics)) {
		if v := metrics[name]; name == "" || math.IsNaN(v) || math.IsInf(v, 0) {
			return fault.New(fault.Invalid, "version.metric", "metric %q is %v", name, v).In("metrics").
				Do("give every metric a name and a finite number")
		}
	}
	return nil
}
