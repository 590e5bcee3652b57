package ladder

import (
	"cmp"
	"slices"
	"time"
)

// Answering is a version that answers main for endpoints of its model.
type Answering struct {
	Version   string
	Endpoints int
	// Since is when the newest of the splits came into force.
	Since time.Time
}

// Incumbent picks the version that a candidate is compared with: the one that answers main,
// where several do, for most endpoints, and where those are as many, since last. Only where
// nothing else answers is it the one that stands on the rung asked for; empty when nobody does.
func Incumbent(candidate string, answering []Answering, onRung string) string {
	answering = slices.DeleteFunc(slices.Clone(answering), func(a Answering) bool { return a.Version == candidate })
	if len(answering) == 0 {
		if onRung == candidate {
			return ""
		}
		return onRung
	}
	return slices.MaxFunc(answering, func(a, b Answering) int {
		return cmp.Or(cmp.Compare(a.Endpoints, b.Endpoints), a.Since.Compare(b.Since),
			cmp.Compare(a.Version, b.Version))
	}).Version
}
