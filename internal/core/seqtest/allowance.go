package seqtest

// Allowance is how much worse than the incumbent's a rate may be: Ratio times it, or Difference more,
// whichever is more. A difference alone hides a fifty-fold harm where hardly anything fails, a ratio
// alone forbids the second failure in a million.
type Allowance struct {
	Ratio      float64 `json:"ratio"`
	Difference float64 `json:"difference"`
}

// Of is the largest rate that is allowed where the incumbent's is p.
func (a Allowance) Of(p float64) float64 { return min(1, max(a.Ratio*p, p+a.Difference)) }
