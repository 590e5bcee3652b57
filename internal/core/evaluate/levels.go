package evaluate

import (
	"math"
	"slices"
	"strconv"
)

const (
	// mostLevels is how many different values a column of texts may have to be looked at, fewLevels how many a column
	// of numbers, else it is cut into quarters.
	mostLevels = 50
	fewLevels  = 12
)

// LevelsOf are the levels of a column, one for each row: its values where there are few, else quarters of its numbers;
// nil for a column of many texts.
func LevelsOf(texts []string, numbers []float64) []string {
	few := map[float64]bool{}
	for _, x := range numbers {
		if !math.IsNaN(x) && len(few) <= fewLevels {
			few[x] = true
		}
	}
	if len(few) > fewLevels {
		return Quarters(numbers)
	}
	for i, x := range numbers {
		switch {
		case !math.IsNaN(x):
			texts[i] = strconv.FormatFloat(x, 'g', -1, 64)
		case texts[i] == "":
			texts[i] = "missing"
		}
	}
	if Distinct(texts, mostLevels) == nil {
		return nil
	}
	return texts
}

// Distinct are the different values, in order; nil where there are more than so many.
func Distinct(all []string, most int) []string {
	seen := map[string]bool{}
	for _, x := range all {
		if seen[x] = true; len(seen) > most {
			return nil
		}
	}
	out := make([]string, 0, len(seen))
	for x := range seen {
		out = append(out, x)
	}
	slices.Sort(out)
	return out
}
