package interval

import (
	"encoding/json"
	"math"
	"os"
	"testing"
)

// What SciPy says of the same; bench/golden/make.py wrote it.
func TestAgainstOthers(t *testing.T) {
	var all struct{ Wilson, Newcombe, Ranks [][]float64 }
	raw, err := os.ReadFile("testdata/golden.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		t.Fatal(err)
	}
	check := func(what string, row []float64, got Interval, low, high float64) {
		t.Helper()
		if math.Abs(got.Low-low) > 1e-9 || math.Abs(got.High-high) > 1e-9 {
			t.Errorf("%s of %v: got %.15g to %.15g, want %.15g to %.15g", what, row, got.Low, got.High, low, high)
		}
	}
	for _, r := range all.Wilson {
		check("Wilson", r, Wilson(r[0], r[1], r[2]), r[3], r[4])
	}
	for _, r := range all.Newcombe {
		check("Newcombe", r, Newcombe(r[0], r[1], r[2], r[3], r[4]), r[5], r[6])
	}
	for _, r := range all.Ranks {
		low, high := QuantileRanks(uint64(r[0]), r[1], r[2])
		check("ranks", r, Interval{float64(low), float64(high)}, r[3], r[4])
	}
}
