package metric

import (
	"math"
	"strconv"
	"strings"
	"time"
)

// Measured is a metric of a version as an attached report measured it. Whoever registers a
// version claims its metrics; a report that measured them counts in their place, the newest
// one where there are several.
type Measured struct {
	// Value is what counts, in the metric's own unit.
	Value    float64   `json:"value"`
	Evidence string    `json:"evidence" description:"the report that measured it, such as E-4"`
	Data     string    `json:"data,omitempty" description:"what it was measured on, such as winters-2024#2"`
	At       time.Time `json:"at"`
	// Claimed is what was said at registration; nil when nothing was.
	Claimed *float64 `json:"claimed,omitempty" description:"what was said at registration"`
	Differs bool     `json:"differs,omitempty" description:"what was claimed is not what was measured, beyond rounding"`
}

// Took is a measured metric with what was claimed before, which may be nothing.
func Took(value float64, claimed *float64, evidence, data string, at time.Time) Measured {
	return Measured{
		Value: value, Evidence: evidence, Data: data, At: at, Claimed: claimed,
		Differs: claimed != nil && Differ(*claimed, value),
	}
}

// mostRounded is the largest share of a value that rounding may take from it: 0.38 is 0.3849
// rounded, and 1 is not 0.96.
const mostRounded = 0.02

// Differ reports whether two values of a metric differ by more than rounding: not within half a
// unit of the last place of the one that is written with fewer places, or by more than 2 %.
func Differ(a, b float64) bool {
	gap := math.Abs(a - b)
	if gap <= 1e-12*max(math.Abs(a), math.Abs(b)) {
		return false // the last binary digits
	}
	half := 0.5 * math.Pow(10, -float64(min(places(a), places(b))))
	return gap > half*(1+1e-9) || gap > mostRounded*max(math.Abs(a), math.Abs(b))
}

// places counts the decimal places in which a value is written at its shortest; 0 for whole
// numbers.
func places(x float64) int {
	s := strconv.FormatFloat(x, 'e', -1, 64)
	digits, exponent, _ := strings.Cut(s, "e")
	_, decimals, _ := strings.Cut(digits, ".")
	e, err := strconv.Atoi(exponent)
	if err != nil {
		return 0 // an infinity, which no metric is
	}
	return max(0, len(decimals)-e)
}
