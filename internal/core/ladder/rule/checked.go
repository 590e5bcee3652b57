package rule

import "innerladder/internal/core/evidence"

// Checked demands that the version answered the cases of its model as they are now, where it is deployed.
type Checked struct {
	Environment string `json:"environment,omitempty"`
}

var checkedKind = KindInfo{
	"checked", "it answered what the cases of its model demand, where it is deployed; they are asked by themselves " +
		"as soon as it is healthy there",
	[]Setting{{"environment", "text", "where; anywhere when empty", nil}},
	as[Checked],
}

// Kind names it.
func (Checked) Kind() string { return checkedKind.Kind }

// Evaluate looks at the newest report that the service made of the cases.
func (q Checked) Evaluate(f Facts) Outcome {
	ref := f.Version.Ref
	if f.Cases == "" {
		return waits(ref, "%s has no cases; set them with: innerladder cases %s FILE.", f.Version.Model,
			f.Version.Model)
	}
	for i := range f.Evidence {
		e := &f.Evidence[i]
		by := e.OwnTests()
		switch {
		case by == nil || by.Cases != f.Cases || q.Environment != "" && by.Environment != q.Environment:
			continue
		case e.Verdict != evidence.VerdictPassed:
			return failed(e.ID, "%s, by the cases %s: %s.", e.ID, f.Cases, e.Says)
		}
		return passed(e.ID, "%s, by the cases %s: %s.", e.ID, f.Cases, e.Says)
	}
	where := q.Environment
	if where == "" {
		return waits(ref, "It was not checked by the cases %s yet; have it done with: innerladder check %s.", f.Cases,
			ref)
	}
	return waits(where, "It was not checked by the cases %s in %s yet; place it there, or: innerladder check %s "+
		"-env %s.", f.Cases, where, ref, where)
}
