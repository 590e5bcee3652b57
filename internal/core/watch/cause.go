package watch

import (
	"fmt"
	"math"

	"innerladder/internal/core/request"
)

// Spread is a column as far as a unit can be told from it.
type Spread struct{ Mean, Deviation float64 }

// units are ways in which a number comes in another unit than it should: what comes is Scale times what should, and
// Offset more.
var units = []struct {
	what          string
	scale, offset float64
}{
	{"in degrees Fahrenheit and not Celsius", 1.8, 32},
	{"in degrees Celsius and not Fahrenheit", 1 / 1.8, -32 / 1.8},
	{"in kelvin and not degrees Celsius", 1, 273.15},
	{"in degrees Celsius and not kelvin", 1, -273.15},
	{"a thousand times too large, as from kilo to the unit itself", 1000, 0},
	{"a thousandth of what it should be, as from the unit itself to kilo", 0.001, 0},
	{"a hundred times too large, as per cent and not a share", 100, 0},
	{"a hundredth of what it should be, as a share and not per cent", 0.01, 0},
	{"3.6 times too large, as km/h and not m/s", 3.6, 0},
	{"1/3.6 of what it should be, as m/s and not km/h", 1 / 3.6, 0},
	{"60 times too large, as from hours or minutes to the next smaller", 60, 0},
	{"a 60th of what it should be, as from seconds or minutes to the next larger", 1.0 / 60, 0},
}

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
	for _, u := range units {
		if fits(u.scale, u.offset) {
			return fmt.Sprintf("%s seems to come %s: its mean is %.4g where the reference has %.4g.",
				column, u.what, now.Mean, reference.Mean)
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
