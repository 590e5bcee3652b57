package compare

import (
	"encoding/json"
	"math"
	"os"
	"testing"
)

// The difference of Mantel and Haenszel with the variance of Greenland and Robins, and the Bayes factor of a
// share, as NumPy and SciPy have them; bench/golden/make.py wrote it.
func TestAgainstOthers(t *testing.T) {
	var all struct {
		Strata               [][4]float64
		Difference, Variance float64
		Ratio                [][4]float64
	}
	raw, err := os.ReadFile("testdata/golden.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		t.Fatal(err)
	}
	var strata []counted
	for _, s := range all.Strata {
		strata = append(strata, counted{s[0], s[1], s[2], s[3]})
	}
	r := standardised(strata)
	if got := r.second - r.first; math.Abs(got-all.Difference) > 1e-12 {
		t.Errorf("difference %.15g, want %.15g", got, all.Difference)
	}
	// Drawing each stratum's rate to that of all changes little where strata are large.
	variance := binary(r.first)/r.effective1 + binary(r.second)/r.effective2
	if math.Abs(variance/all.Variance-1) > 0.02 {
		t.Errorf("variance %v, want %v within 2 %%", variance, all.Variance)
	}
	for _, c := range all.Ratio {
		got := ratioEvidence(uint64(c[0]), uint64(c[1]), c[2])
		if math.Abs(got-c[3]) > 1e-9*math.Max(1, math.Abs(c[3])) {
			t.Errorf("%v of %v at %v: %.15g, want %.15g", c[0], c[1], c[2], got, c[3])
		}
	}
}
