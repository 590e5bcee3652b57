package rule

import (
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
)

// Robust demands that the version was tested for robustness where it is deployed, with rows as callers send them now,
// and held: nothing usual is refused, nothing breaks, the same rows get the same answers, no input is taken in another
// unit, and noise moves predictions little.
type Robust struct {
	Environment string `json:"environment,omitempty"`
	// Breaks is how many disturbances may break it, Noise how far noise may move predictions; 0 is as where nothing is
	// said.
	Breaks int     `json:"breaks,omitempty"`
	Noise  float64 `json:"noise,omitempty"`
}

var robustKind = KindInfo{
	"robust", "it was tested for robustness where it is deployed (missing, extreme and unknown values, noise, other " +
		"units, many at once), and held; that is done by itself as soon as it is healthy there and answers no callers",
	[]Setting{
		{"environment", "text", "where; anywhere when empty", nil},
		{"breaks", "count", "how many disturbances may break it; none when 0", nil},
		{
			"noise", "number", "how far noise may move predictions: in their standard deviations, 0.5 when 0; of " +
				"classes the share that may be others, 0.2 when 0", nil,
		},
	},
	as[Robust],
}

// Kind names it.
func (Robust) Kind() string { return robustKind.Kind }

func (q Robust) check(field string) error {
	if q.Breaks < 0 || !(q.Noise >= 0 && q.Noise <= 100) {
		return fault.New(fault.Invalid, "requirement.robust", "%d breaks and noise of %v are allowed", q.Breaks,
			q.Noise).In(field).Do("allow 0 breaks or more, and noise from 0 to 100")
	}
	return nil
}

// Evaluate looks at the newest report that the service made.
func (q Robust) Evaluate(f Facts) Outcome {
	ref := f.Version.Ref
	for i := range f.Evidence {
		e := &f.Evidence[i]
		r := e.OwnRobustness()
		if r == nil || r.Aside || q.Environment != "" && r.Environment != q.Environment {
			continue
		}
		// Without a name, rows are like the incumbent's, or, where that has no reference profile, the version's own.
		if than := f.Incumbent; than != nil && r.Like != than.Ref && (r.Named || r.Incumbent != than.Ref) {
			return waits(e.ID, "%s has rows like those of %s; the incumbent is %s now; have it done again with: "+
				"innerladder robustness %s.", e.ID, r.Like, than.Ref, ref)
		}
		limits := r.Allowed()
		if most := float64(q.Breaks); q.Breaks > 0 {
			limits["breaks"] = evidence.Limit{AtMost: &most}
		}
		if _, there := limits["noise"]; there && q.Noise > 0 {
			limits["noise"] = evidence.Limit{AtMost: &q.Noise}
		}
		if broken := r.Broken(limits); broken != "" {
			return failed(e.ID, "%s: %s%s.", e.ID, r.Sentence(), broken)
		}
		return passed(e.ID, "%s: %s.", e.ID, r.Sentence())
	}
	if q.Environment == "" {
		return waits(ref, "It was not tested for robustness yet; have it done with: innerladder robustness %s.", ref)
	}
	return waits(q.Environment, "It was not tested for robustness in %s yet; place it there, or: innerladder "+
		"robustness %s -env %s.", q.Environment, ref, q.Environment)
}
