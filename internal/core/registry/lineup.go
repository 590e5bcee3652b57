package registry

import (
	"maps"
	"math"
	"slices"
	"time"

	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
)

// Lineup puts any number of versions in one table. Members that are absent for a
// version are left out of the maps.
type Lineup struct {
	Versions []LineupVersion `json:"versions"`
	// Base is the version that differences are taken from: one that is live, else none.
	Base    string         `json:"base,omitempty"`
	Metrics []LineupMetric `json:"metrics"`
	// Params are those that differ; Same counts the others.
	Params     []LineupText    `json:"params"`
	SameParams int             `json:"same_params" description:"parameters that are equal in all versions"`
	Curves     []lineage.Curve `json:"curves,omitempty" description:"of the runs that the versions came out of"`
}

// LineupVersion is one column of the table.
type LineupVersion struct {
	Ref    string   `json:"ref"`
	Rung   string   `json:"rung"`
	Labels []string `json:"labels,omitempty"`
	Note   string   `json:"note,omitempty"`
	// RolledBack is set as in the version.
	RolledBack *RolledBack       `json:"rolled_back,omitempty"`
	Size       int64             `json:"size" description:"bytes of all artifacts"`
	Formats    []string          `json:"formats"`
	Data       []lineage.DataUse `json:"data,omitempty"`
	Code       *lineage.Code     `json:"code,omitempty"`
	Run        string            `json:"run,omitempty"`
	CreatedAt  time.Time         `json:"created_at"`
	CreatedBy  string            `json:"created_by"`
}

// LineupMetric is one metric over the versions, by ref.
type LineupMetric struct {
	Name          string             `json:"name"`
	Unit          string             `json:"unit,omitempty"`
	LowerIsBetter bool               `json:"lower_is_better"`
	Values        map[string]float64 `json:"values"`
	// Measured are those that a report measured.
	Measured map[string]metric.Measured `json:"measured,omitempty" description:"those that a report measured"`
	// Best lists the refs of the best value; empty when fewer than two have one.
	Best []string `json:"best,omitempty"`
	// Against is the difference to the base.
	Against map[string]float64 `json:"against,omitempty"`
	// Verdicts judge each against the base.
	Verdicts map[string]string `json:"verdicts,omitempty"`
}

// LineupText is one parameter over the versions, by ref.
type LineupText struct {
	Name   string            `json:"name"`
	Values map[string]string `json:"values"`
}

// LineUp puts versions in one table; base is the ref of one of them or of another that
// is given last and not shown, "" for none.
func LineUp(versions []Version, base *Version) Lineup {
	out := Lineup{Versions: []LineupVersion{}, Metrics: []LineupMetric{}, Params: []LineupText{}}
	var metricNames, paramNames []string
	for i := range versions {
		v := &versions[i]
		out.Versions = append(out.Versions,
			LineupVersion{
				Ref: v.Ref, Rung: v.Rung, Labels: v.Labels, Note: v.Note, RolledBack: v.RolledBack, Size: v.Size(),
				Formats: v.Formats(),
				Data:    v.Data, Code: v.Code, Run: v.Run, CreatedAt: v.CreatedAt, CreatedBy: v.CreatedBy,
			})
		metricNames, paramNames = append(metricNames, slices.Sorted(maps.Keys(v.Metrics))...),
			append(paramNames, slices.Sorted(maps.Keys(v.Params))...)
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(metricNames))) {
		out.Metrics = append(out.Metrics, lineUpMetric(name, versions, base))
	}
	if base != nil {
		out.Base = base.Ref
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(paramNames))) {
		row := LineupText{name, map[string]string{}}
		differs := false
		for i := range versions {
			value, there := versions[i].Params[name]
			if there {
				row.Values[versions[i].Ref] = value
			}
			first, firstThere := versions[0].Params[name]
			differs = differs || there != firstThere || value != first
		}
		if differs {
			out.Params = append(out.Params, row)
		} else {
			out.SameParams++
		}
	}
	return out
}

func lineUpMetric(name string, versions []Version, base *Version) LineupMetric {
	var mean metric.Meaning // as the first version's model means it
	for i := range versions {
		if known, said := versions[i].Meanings[name]; said {
			mean = known
			break
		}
	}
	m := LineupMetric{
		Name: name, Unit: mean.Unit, LowerIsBetter: mean.LowerIsBetter(name), Values: map[string]float64{},
	}
	best := math.NaN()
	for i := range versions {
		x, there := versions[i].Metrics[name]
		if !there {
			continue
		}
		m.Values[versions[i].Ref] = x
		if by, measured := versions[i].Measured[name]; measured {
			if m.Measured == nil {
				m.Measured = map[string]metric.Measured{}
			}
			m.Measured[versions[i].Ref] = by
		}
		// One that was rolled back is in the table, and never the best.
		if versions[i].RolledBack == nil && (math.IsNaN(best) || mean.Judge(name, best, x) == "better") {
			best = x
		}
		if base == nil || versions[i].Ref == base.Ref {
			continue
		}
		if y, there := base.Metrics[name]; there {
			if m.Against == nil {
				m.Against, m.Verdicts = map[string]float64{}, map[string]string{}
			}
			m.Against[versions[i].Ref], m.Verdicts[versions[i].Ref] = x-y,
				versions[i].noPraise(mean.Judge(name, y, x))
		}
	}
	if len(m.Values) > 1 {
		for i := range versions {
			x, there := m.Values[versions[i].Ref]
			if there && versions[i].RolledBack == nil && mean.Judge(name, x, best) == "same" {
				m.Best = append(m.Best, versions[i].Ref)
			}
		}
	}
	return m
}

// Formats lists the formats of the artifacts, each once.
func (v *Version) Formats() []string {
	out := []string{}
	for _, a := range v.Artifacts {
		if a.Contents.Format != "" && !slices.Contains(out, a.Contents.Format) {
			out = append(out, a.Contents.Format)
		}
	}
	slices.Sort(out)
	return out
}
