package rule

import (
	"slices"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
)

// LineageComplete demands that it is known what the version was made from.
type LineageComplete struct {
	// Parts are some of data, code and run; none is all three.
	Parts []string `json:"parts,omitempty"`
	// CleanCode refuses code that differed from its commit.
	CleanCode bool `json:"clean_code,omitempty"`
}

var lineageParts = []string{"data", "code", "run"}

var lineageKind = KindInfo{"lineage", "it is known what data, code and run the version came from", []Setting{
	{"parts", "texts", "some of data, code, run; all three when empty", lineageParts},
	{"clean_code", "yes_no", "the checkout must not have differed from its commit", nil},
}, as[LineageComplete]}

// Kind names it.
func (LineageComplete) Kind() string { return lineageKind.Kind }

func (q LineageComplete) check(field string) error {
	for _, p := range q.Parts {
		if !slices.Contains(lineageParts, p) {
			return fault.New(fault.Invalid, "requirement.parts", "%q is no part of the lineage", p).In(field+".parts").
				Do("use %s", strings.Join(lineageParts, ", "))
		}
	}
	return nil
}

// Evaluate looks for each part.
func (q LineageComplete) Evaluate(f Facts) Outcome {
	v := f.Version
	parts := q.Parts
	if len(parts) == 0 {
		parts = lineageParts
	}
	there := map[string]bool{
		"data": slices.ContainsFunc(v.Data, func(u lineage.DataUse) bool { return u.Role == lineage.TrainedOn }),
		"code": v.Code != nil && v.Code.Commit != "",
		"run":  v.Run != "",
	}
	var missing []string
	for _, p := range parts {
		if !there[p] {
			missing = append(missing, map[string]string{
				"data": "the data it was trained on", "code": "its code",
				"run": "its run",
			}[p])
		}
	}
	switch {
	case len(missing) > 0:
		return failed(v.Ref, "Not known: %s.", strings.Join(missing, ", "))
	case q.CleanCode && v.Code != nil && v.Code.Dirty:
		return failed(v.Ref, "The code differed from its commit %s.", v.Code.Commit[:min(8, len(v.Code.Commit))])
	}
	return passed(v.Ref, "It is known what it came from: %s.", strings.Join(parts, ", "))
}
