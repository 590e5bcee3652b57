package traffic

import (
	"time"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/signature"
)

// Environment is a place where versions run.
type Environment struct {
	Name        string    `json:"name"`
	Description string    `json:"description"`
	AddedBy     string    `json:"added_by"`
	AddedAt     time.Time `json:"added_at"`
	Placements  int       `json:"placements" description:"how many versions are placed there"`
}

// Address is one model server of a placement.
type Address struct {
	URL     string `json:"url"`
	Healthy bool   `json:"healthy"`
	// Reason says why the address is not healthy, Since when that was last found.
	Reason string    `json:"reason,omitempty"`
	Since  time.Time `json:"since"`
}

// Placement is one version running in one environment.
type Placement struct {
	ID          int64     `json:"id"`
	Project     string    `json:"project"`
	Version     string    `json:"version"`
	Environment string    `json:"environment"`
	ServedAs    string    `json:"served_as" description:"the model's name at the model servers"`
	Addresses   []Address `json:"addresses"`
	Healthy     bool      `json:"healthy" description:"true when at least one address is"`
	// Declared is what its servers said at placement that they take and give; nil when they were
	// not asked yet.
	Declared *signature.Served `json:"declared,omitempty" description:"what its servers declared at placement"`
	// Heard is what its servers answered to the sample request at placement; nil when it was not
	// sent.
	Heard *answers.Case `json:"heard,omitempty" description:"what its servers answered to the sample request at placement"`
	// Fits says how the version stands to the contracts of the endpoints that it could answer for.
	Fits     []Fit     `json:"fits,omitempty" description:"how it stands to the contracts of endpoints there; at placement only"`
	PlacedBy string    `json:"placed_by"`
	PlacedAt time.Time `json:"placed_at"`
}

// Exactly is the signature of the placed version as its servers take and give it; nil when
// nothing is known of it.
func (p *Placement) Exactly(s *signature.Signature) *signature.Signature {
	if p.Declared == nil {
		return s
	}
	return s.Exactly(*p.Declared)
}

// Reason says why the placement is not healthy, "" when it is.
func (p *Placement) Reason() string {
	for _, a := range p.Addresses {
		if !a.Healthy && !p.Healthy {
			return a.URL + ": " + a.Reason
		}
	}
	return ""
}
