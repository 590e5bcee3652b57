package compare

import (
	"fmt"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
)

const (
	// fewForms is the least number of answers that say which outputs a version gives.
	fewForms = 10
)

// formsOf are the outputs that both gave in the strata.
func formsOf(strata []Stratum) (a, b *sketch.Forms) {
	a, b = &sketch.Forms{}, &sketch.Forms{}
	for _, s := range strata {
		a.Merge(&s.Incumbent.Content.Forms)
		b.Merge(&s.Candidate.Content.Forms)
	}
	return a, b
}

// formNotes says which outputs one version gives and the other does not, or as another type. They
// come before anything about values: there is nothing to compare where one is not there.
func formNotes(incumbent, candidate string, a, b *sketch.Forms) []string {
	var out []string
	if a.Answers < fewForms || b.Answers < fewForms {
		return out
	}
	share := func(f *sketch.Forms, o sketch.Form) float64 { return float64(f.Of(o)) / float64(f.Answers) }
	for _, o := range a.All() {
		if share(a, o) < guard.Mostly || share(b, o) > guard.Hardly {
			continue
		}
		other := ""
		for _, q := range b.All() {
			if q.Name == o.Name && share(b, q) >= guard.Mostly {
				other = q.Datatype
			}
		}
		if other != "" {
			out = append(out, fmt.Sprintf("%s gives the output %s as %s, %s as %s.", candidate, o.Name, other,
				incumbent,
				o.Datatype))
		} else {
			out = append(out, fmt.Sprintf("%s does not give the output %s, which %s gives.", candidate, o.Name,
				incumbent))
		}
	}
	for _, o := range b.All() {
		known := false
		for _, q := range a.All() {
			known = known || (q.Name == o.Name && share(a, q) > guard.Hardly)
		}
		if !known && share(b, o) >= guard.Mostly {
			out = append(out, fmt.Sprintf("%s gives the output %s, which %s does not.", candidate, o.Name, incumbent))
		}
	}
	return out
}
