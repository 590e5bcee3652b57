package request

import (
	"cmp"
	"math"
	"slices"
)

// Near is a request with how far its inputs are from those of another.
type Near struct {
	Kept
	// Distance is Gower's: 0 for the same inputs, 1 for ones as far apart as any that were looked at.
	Distance float64 `json:"distance" description:"of its inputs: 0 for the same, 1 for as far apart as any are"`
}

// Like lists the requests whose inputs are nearest to those of one of them, nearest first, at most so many: by the
// mean over its columns of |x−y| over the range that was seen, and of 0 or 1 where a column is no number or a value
// is missing (Gower 1971). Of requests with several rows the first is looked at. Those whose inputs are not kept
// are left out.
func Like(e Kept, others []Kept, most int) []Near {
	asked := firstRow(e)
	if len(asked) == 0 {
		return []Near{}
	}
	rows := make([]map[string]any, len(others))
	spans := map[string]extent{}
	for name, v := range asked {
		spans[name] = extent{}.with(v)
	}
	for i := range others {
		rows[i] = firstRow(others[i])
		for name := range asked {
			if v, ok := rows[i][name]; ok {
				spans[name] = spans[name].with(v)
			}
		}
	}
	out := []Near{}
	for i, o := range others {
		if o.ID == e.ID || len(rows[i]) == 0 {
			continue
		}
		sum := 0.0
		for name, v := range asked {
			sum += spans[name].apart(v, rows[i][name])
		}
		out = append(out, Near{o, sum / float64(len(asked))})
	}
	slices.SortStableFunc(out, func(a, b Near) int { return cmp.Compare(a.Distance, b.Distance) })
	return out[:min(most, len(out))]
}

// extent is the range of the numbers of a column.
type extent struct {
	low, high float64
	any       bool
}

func (x extent) with(v any) extent {
	n, ok := v.(float64)
	switch {
	case !ok:
		return x
	case !x.any:
		return extent{n, n, true}
	}
	return extent{min(x.low, n), max(x.high, n), true}
}

// apart is how far two values are from each other, 0 to 1.
func (x extent) apart(a, b any) float64 {
	n, ok1 := a.(float64)
	m, ok2 := b.(float64)
	switch {
	case ok1 && ok2 && x.high > x.low:
		return math.Abs(n-m) / (x.high - x.low)
	case a == b:
		return 0
	}
	return 1
}

// firstRow is the first value of each input that is kept.
func firstRow(e Kept) map[string]any {
	e.Answer = nil
	out := map[string]any{}
	for name, values := range ColumnsOf(&e) {
		if len(values) > 0 {
			out[name] = values[0]
		}
	}
	return out
}
