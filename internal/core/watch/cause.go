package watch

import (
	"fmt"
	"math"

	"innerladder/internal/core/request"
	"innerladder/internal/core/unit"
)

// Spread is a column as far as a unit can be told from it.
type Spread struct{ Mean, Deviation float64 }

// OtherUnit says in which other unit a column seems to come: when its mean is that of the reference in that unit, to
// within 0.35 standard deviations, and its standard deviation that in the unit, to within a quarter; and when they are
// not those of the reference as it is.
func OtherUnit(column string, reference, now Spread) string {
	if reference.Deviation <= 0 || now.Deviation <= 0 {
		return ""
	}
	fits := func(scale, offset float64) bool {
		deviation := scale * reference.Deviation
		return math.Abs(now.Mean-(scale*reference.Mean+offset)) < 0.35*deviation &&
			math.Abs(now.Deviation/deviation-1) < 0.25
	}
	if fits(1, 0) {
		return ""
	}
	for _, u := range unit.Changes("") {
		if fits(u.Scale, u.Offset) {
			return fmt.Sprintf("%s seems to come %s: its mean is %.4g where the reference has %.4g.",
				column, u.What, now.Mean, reference.Mean)
		}
	}
	return ""
}

// mostlyDistinct is from which share of rows on distinct inputs count as all.
const mostlyDistinct = 0.9

// independent is the share of rows that tell something new, of those that are. The same rows again and again tell
// nothing; a few that are alike by chance are as good as others.
func independent(rows, fresh uint64) float64 {
	if share := float64(fresh) / float64(max(1, rows)); share < mostlyDistinct {
		return share
	}
	return 1
}

const (
	// leastTrouble is of how many requests in trouble it is told where they are.
	leastTrouble = 10
	// nearlyAll is the share of what is in trouble that must lie in one place, few the share of the others that may.
	nearlyAll, few = 0.8, 0.5
)

// OneCaller says whether nearly all requests that are in trouble are one caller's, who is behind no such share of all:
// then it is not the version, most likely. bad counts those of a caller's that are in trouble.
func OneCaller(calls map[string]request.Calls, what string, bad func(request.Calls) uint64) string {
	var all, wrong uint64
	for _, n := range calls {
		all, wrong = all+n.Requests, wrong+bad(n)
	}
	if wrong < leastTrouble {
		return ""
	}
	for name, n := range calls {
		here, asks := float64(bad(n))/float64(wrong), float64(n.Requests)/float64(all)
		if name != request.Others && name != request.Unnamed && here >= nearlyAll && asks <= few {
			return fmt.Sprintf("%d of %d that %s are of %s, who sends %.0f %% of the requests.", bad(n), wrong, what,
				name, 100*asks)
		}
	}
	return ""
}
