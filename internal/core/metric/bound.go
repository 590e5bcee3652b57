package metric

import (
	"math"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
)

// Bound keeps versions whose metric is on one side of a value.
type Bound struct {
	Metric string
	// How is one of < <= > >=.
	How   string
	Value float64
}

// ParseBound reads a bound of a metric, such as rmse<0.4.
func ParseBound(field, s string) (Bound, error) {
	bad := fault.New(fault.Invalid, "metric.bound", "%q is no bound of a metric", s).In(field).
		Do("write NAME<VALUE, NAME<=VALUE, NAME>VALUE or NAME>=VALUE, such as rmse<0.4")
	i := strings.IndexAny(s, "<>")
	if i <= 0 {
		return Bound{}, bad
	}
	b := Bound{Metric: strings.TrimSpace(s[:i]), How: s[i : i+1]}
	rest := s[i+1:]
	if after, ok := strings.CutPrefix(rest, "="); ok {
		b.How, rest = b.How+"=", after
	}
	x, err := strconv.ParseFloat(strings.TrimSpace(rest), 64)
	if err != nil || math.IsNaN(x) || b.Metric == "" {
		return b, bad
	}
	b.Value = x
	return b, nil
}
