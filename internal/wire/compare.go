package wire

import "innerladder/internal/core/compare"

// Comparisons are versions beside their incumbent, each with intervals that hold for all together.
type Comparisons struct {
	Items []compare.Comparison `json:"items"`
}
