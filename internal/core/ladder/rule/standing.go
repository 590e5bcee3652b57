package rule

import (
	"fmt"
	"strings"

	"innerladder/internal/core/evidence"
)

// Standing demands that the version was put to the standing evaluation of its model as it is now, and kept the limits
// of that; and, where measures are named, that it is not surely worse in them than who it was held against.
type Standing struct {
	NoWorse []string `json:"no_worse,omitempty"`
}

var standingKind = KindInfo{
	"standing", "it was put to the standing evaluation of its model, and kept the limits of that",
	[]Setting{{
		"no_worse", "texts", "measures, such as rmse, in which it may not be surely worse than the incumbent on the " +
			"same rows; for that the standing evaluation must be against the incumbent", nil,
	}},
	as[Standing],
}

// Kind names it.
func (Standing) Kind() string { return standingKind.Kind }

// Evaluate looks at the newest report of the standing evaluation.
func (q Standing) Evaluate(f Facts) Outcome {
	ref := f.Version.Ref
	if f.Standing == nil {
		return waits(ref, "%s has no standing evaluation; set one with: innerladder standing %s FILE -target COLUMN.",
			f.Version.Model, f.Version.Model)
	}
	id := f.Standing.ID()
	var e *evidence.Evidence
	for i, one := range f.Evidence {
		if r := one.OwnEvaluation(); r != nil && r.Judged.Standing == id {
			e = &f.Evidence[i]
			break
		}
	}
	if e == nil {
		return waits(ref, "It was not put to the standing evaluation %s yet; see how far it is with: innerladder "+
			"standing %s.", id, f.Version.Model)
	}
	if e.Verdict == evidence.VerdictFailed {
		return failed(e.ID, "%s, by the standing evaluation %s, failed: %s.", e.ID, id, e.Says)
	}
	if len(q.NoWorse) == 0 || f.Incumbent == nil {
		return passed(e.ID, "%s, by the standing evaluation %s: %s.", e.ID, id, e.Says)
	}
	return q.beside(f, e)
}

// beside looks at how it compares with the incumbent.
func (q Standing) beside(f Facts, e *evidence.Evidence) Outcome {
	a, again := e.Evaluation.Against, "innerladder standing run "+f.Version.Ref
	switch {
	case a == nil:
		return waits(e.ID, "%s does not hold it against %s; set the standing evaluation with -against incumbent, and "+
			"have it done again with: %s.", e.ID, f.Incumbent.Ref, again)
	case a.Version != f.Incumbent.Ref:
		return waits(e.ID, "%s holds it against %s; the incumbent is %s now; have it done again with: %s.", e.ID,
			a.Version, f.Incumbent.Ref, again)
	}
	var said []string
	for _, name := range q.NoWorse {
		d := a.Difference(name)
		if d == nil {
			return waits(e.ID, "%s has no %s of both versions.", e.ID, name)
		}
		if d.Verdict == evidence.Worse {
			return failed(e.ID, "%s is surely worse than that of %s on the same %d rows: %s, where it was %s.", name,
				a.Version, a.Rows, short(d.Is), short(d.Was))
		}
		said = append(said, fmt.Sprintf("%s %s (%s, where it was %s)", name, verdicts[d.Verdict], short(d.Is),
			short(d.Was)))
	}
	return passed(e.ID, "Beside %s on the same %d rows: %s.", a.Version, a.Rows, strings.Join(said, ", "))
}

// verdicts are what is said of a measure that is not worse.
var verdicts = map[evidence.Lead]string{
	evidence.Better: "is better", evidence.Same: "is the same", evidence.CannotTell: "is not surely worse",
}
