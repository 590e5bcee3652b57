package compare

import (
	"maps"
	"slices"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/sketch"
)

// Profiles is how the rows behind one version differ from those behind another.
type Profiles struct {
	From     string          `json:"from"`
	To       string          `json:"to"`
	FromRows int             `json:"from_rows"`
	ToRows   int             `json:"to_rows"`
	Columns  []ProfileColumn `json:"columns"`
	// OnlyFrom and OnlyTo name the columns that the other side does not have, or has
	// with values of another kind.
	OnlyFrom []string `json:"only_from"`
	OnlyTo   []string `json:"only_to"`
}

// ProfileColumn is one column of both profiles, counted on the bins of From.
type ProfileColumn struct {
	Name     string         `json:"name"`
	From     *sketch.Column `json:"from"`
	To       *sketch.Column `json:"to"`
	Movement drift.Movement `json:"movement"`
}

// profilesNeed is the least that says anything about two profiles.
var profilesNeed = drift.Need{Observations: 200, Distinct: 1}

// OfProfiles compares two reference profiles, the column that moved most first. The bins
// of To are counted again on those of From; sketch.Column.On says with which error.
func OfProfiles(from, to string, a, b *profile.Profile) Profiles {
	out := Profiles{
		From: from, To: to, FromRows: a.Rows, ToRows: b.Rows, Columns: []ProfileColumn{},
		OnlyFrom: []string{}, OnlyTo: []string{},
	}
	again := map[string]*sketch.Column{}
	// Profiles are counted over whole rows, so each row counts as a distinct input.
	samples, other := map[string]drift.Sample{}, map[string]drift.Sample{}
	for name, col := range b.Columns {
		if p, both := a.Columns[name]; both && p.Bins.Defined() {
			if q := col.On(p.Bins, b.Fine[name]); q != nil {
				again[name] = q
				samples[name] = drift.SampleOf(p, uint64(a.Rows))
				other[name] = drift.SampleOf(q, uint64(b.Rows))
			}
		}
	}
	moved, _ := drift.MeasureAll(samples, other, profilesNeed, 1)
	for _, name := range slices.Sorted(maps.Keys(moved)) {
		out.Columns = append(out.Columns, ProfileColumn{name, a.Columns[name], again[name], moved[name]})
	}
	slices.SortStableFunc(out.Columns, func(x, y ProfileColumn) int {
		switch {
		case x.Movement.PSI > y.Movement.PSI:
			return -1
		case x.Movement.PSI < y.Movement.PSI:
			return 1
		}
		return 0
	})
	for _, side := range []struct {
		mine  map[string]*sketch.Column
		names *[]string
	}{{a.Columns, &out.OnlyFrom}, {b.Columns, &out.OnlyTo}} {
		for _, name := range slices.Sorted(maps.Keys(side.mine)) {
			if _, both := moved[name]; !both {
				*side.names = append(*side.names, name)
			}
		}
	}
	return out
}
