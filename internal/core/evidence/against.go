package evidence

import (
	"fmt"
	"strings"

	"innerladder/internal/core/fault"
)

// Beside is how a version compares with another on the same rows.
type Beside struct {
	Version string `json:"version" description:"the other, MODEL@NUMBER"`
	// Rows were answered by both and have a truth; LeftOut were answered by the version alone.
	Rows    int64 `json:"rows" description:"answered by both"`
	LeftOut int64 `json:"left_out,omitempty" description:"that the other did not answer"`
	// Differences are of the measures over those rows, by name.
	Differences []MetricDifference `json:"differences"`
	// Segments are parts of the rows with the mean difference of the error of each row; Worse are those in which the
	// version is surely worse than the other.
	Segments []Segment `json:"segments,omitempty" description:"parts of the rows, those where it loses most first"`
	// Worst are the rows in which the version is further off than the other, by the most first.
	Worst []WorstRow `json:"worst,omitempty" description:"rows in which it loses most"`
}

// MetricDifference is a measure of two versions over the same rows.
type MetricDifference struct {
	Metric string `json:"metric"`
	// Is belongs to the version, Was to the other; Difference is Is − Was, in the unit of the measure.
	Is         float64 `json:"is"`
	Was        float64 `json:"was" description:"of the other"`
	Difference float64 `json:"difference"`
	// Bounds enclose the difference with 95 %; absent where that is not known.
	Bounds *[2]float64 `json:"bounds,omitempty" description:"of the difference at 95 %, low and high"`
	// Verdict says which is better.
	Verdict Lead `json:"verdict" enum:"better,worse,same,not enough to tell"`
}

// Lead is what can be said of two versions.
type Lead string

// What can be said. Same is said where both gave the very same.
const (
	Better      Lead = "better"
	Worse       Lead = "worse"
	Same        Lead = "same"
	CannotTell  Lead = "not enough to tell"
	mostInWords      = 4
)

// Difference finds that of a measure; nil where it was not found.
func (a *Beside) Difference(metric string) *MetricDifference {
	for i := range a.Differences {
		if a.Differences[i].Metric == metric {
			return &a.Differences[i]
		}
	}
	return nil
}

// Says is the comparison in a few words.
func (a *Beside) Says() string {
	by := map[Lead][]string{}
	for _, d := range a.Differences {
		by[d.Verdict] = append(by[d.Verdict], d.Metric)
	}
	var parts []string
	for _, v := range []Lead{Worse, Better} {
		if names := by[v]; len(names) > 0 {
			more := ""
			if len(names) > mostInWords {
				more = fmt.Sprintf(" and %d more", len(names)-mostInWords)
				names = names[:mostInWords]
			}
			parts = append(parts, fmt.Sprintf("%s by %s%s", v, strings.Join(names, ", "), more))
		}
	}
	switch {
	case len(parts) == 0 && len(by[Same]) == len(a.Differences):
		return "the same as " + a.Version
	case len(parts) == 0:
		return "no sure difference from " + a.Version
	}
	return "beside " + a.Version + ": " + strings.Join(parts, "; ")
}

// check refuses a comparison that cannot be.
func (a *Beside) check() error {
	for _, d := range a.Differences {
		switch d.Verdict {
		case Better, Worse, Same, CannotTell:
		default:
			return fault.New(fault.Invalid, "evidence.against", "%q says nothing of which version is better",
				d.Verdict).In("file").Do("use one of better, worse, same, not enough to tell")
		}
	}
	return nil
}
