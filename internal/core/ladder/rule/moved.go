package rule

// DataLookedAt demands that somebody looked at how the candidate's inputs and target moved against
// the incumbent's: a metric says little where both were measured on other worlds.
type DataLookedAt struct{}

var dataLookedAtKind = KindInfo{
	"data_looked_at", "somebody looked at how inputs and target moved against the incumbent's data",
	[]Setting{},
	as[DataLookedAt],
}

// Kind names it.
func (DataLookedAt) Kind() string { return dataLookedAtKind.Kind }

func (DataLookedAt) byPeople() {}

// movedItem is what is ticked.
var movedItem = Item{Name: "data-moved", Text: "Looked at how inputs and target moved against the incumbent's data"}

// Look lists what is to be looked at.
func (DataLookedAt) Look() []Item { return []Item{movedItem} }

// Evaluate looks for the tick, whatever gate it belongs to.
func (q DataLookedAt) Evaluate(f Facts) Outcome { return q.EvaluateFor(f.To, f) }

// EvaluateFor looks for the tick that belongs to the gate of a rung.
func (DataLookedAt) EvaluateFor(rung string, f Facts) Outcome {
	if f.Incumbent == nil {
		return passed(f.Version.Ref, "Nothing answers and nobody stands on %s, so there is no data to move against.",
			f.To)
	}
	if t := f.Answers.Ticked(rung, movedItem.Name); t != nil {
		return passed(f.Answers.Promotion, "%s looked at how the data moved against %s: “%s”.", t.By,
			f.Incumbent.Ref, t.Note)
	}
	for _, ref := range []struct {
		rows int
		ref  string
	}{{f.Version.ProfileRows, f.Version.Ref}, {f.Incumbent.ProfileRows, f.Incumbent.Ref}} {
		if ref.rows == 0 {
			return waits(f.Answers.Promotion, "How the data moved is not known, because %s has no reference profile; "+
				"somebody must say so: data-moved.", ref.ref)
		}
	}
	return waits(f.Answers.Promotion, "Nobody has looked yet at how the data moved against %s: data-moved.",
		f.Incumbent.Ref)
}
