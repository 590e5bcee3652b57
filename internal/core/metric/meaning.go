package metric

import (
	"maps"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// Meaning is what a metric of a model means: its unit, and which way is better where its name does
// not say it. It is one for all versions of the model, so that they compare.
type Meaning struct {
	Unit   string `json:"unit,omitempty" description:"such as MW"`
	Better Way    `json:"better,omitempty" enum:"lower,higher" description:"where the metric's name does not say it"`
}

// Way is which way a metric is better; empty where its name says it.
type Way string

// The ways.
const (
	Lower  Way = "lower"
	Higher Way = "higher"
)

// LowerIsBetter reports whether a smaller value of a metric is the better one: as it is said, else
// by its name.
func (m Meaning) LowerIsBetter(metric string) bool {
	if m.Better != "" {
		return m.Better == Lower
	}
	return LowerIsBetter(metric)
}

// Judge says whether the value `to` of a metric is better, worse, or the same as `from`.
func (m Meaning) Judge(metric string, from, to float64) string {
	switch w := Worsening(metric, from, to, m.LowerIsBetter(metric)); {
	case w < 0:
		return "better"
	case w > 0:
		return "worse"
	}
	return "same"
}

// Meanings are what the metrics of a model mean, by name.
type Meanings map[string]Meaning

// Check refuses meanings that cannot be; field is where they stand.
func (m Meanings) Check(field string) error {
	for _, name := range slices.Sorted(maps.Keys(m)) {
		switch one := m[name]; {
		case strings.TrimSpace(name) == "":
			return fault.New(fault.Invalid, "metric.name", "a metric has no name").In(field).
				Do("give it one, such as rmse")
		case one.Better != "" && one.Better != Lower && one.Better != Higher:
			return fault.New(fault.Invalid, "metric.better", "%q is not which way %s is better", one.Better, name).
				In(field).Do("use lower or higher")
		case len(one.Unit) > 40:
			return fault.New(fault.Invalid, "metric.unit", "the unit of %s is too long", name).In(field).
				Do("use one such as MW, with at most 40 characters")
		}
	}
	return nil
}

// With adds what is said about metrics to what is known. What is known does not change: values of
// before would mean something else.
func (m Meanings) With(field string, said Meanings) (Meanings, error) {
	out := maps.Clone(m)
	if out == nil {
		out = Meanings{}
	}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		is, new := out[name], said[name]
		for _, differs := range []struct{ what, was, now string }{
			{"is in", is.Unit, new.Unit}, {"is better", string(is.Better), string(new.Better)},
		} {
			if differs.was != "" && differs.now != "" && differs.was != differs.now {
				return nil, fault.New(fault.Refused, "metric.means", "%s %s %s for the versions of before, not %s",
					name, differs.what, differs.was, differs.now).In(field).
					Do("give it another name, or convert it; values that mean something else cannot be compared")
			}
		}
		if is.Unit == "" {
			is.Unit = new.Unit
		}
		if is.Better == "" {
			is.Better = new.Better
		}
		if is != (Meaning{}) {
			out[name] = is
		}
	}
	return out, nil
}
