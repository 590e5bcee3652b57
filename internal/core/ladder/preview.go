package ladder

import (
	"slices"

	"innerladder/internal/core/ladder/rule"
)

// Preview is what a ladder would let pass today.
type Preview struct {
	Project string `json:"project"`
	// Refused says why the ladder could not be set as it is; empty when it could.
	Refused string        `json:"refused,omitempty" description:"why the ladder could not be set as it is"`
	Rungs   []RungPreview `json:"rungs"`
	// Versions lists the newest versions of each model; all are counted in Rungs.
	Versions []VersionPreview `json:"versions"`
	Judged   int              `json:"judged" description:"how many versions were judged"`
}

// RungPreview is how many of the versions on the rung below a rung would pass its gate.
type RungPreview struct {
	Rung    string `json:"rung"`
	Asked   int    `json:"asked" description:"versions on the rung below"`
	Pass    int    `json:"pass" description:"those that meet everything"`
	People  int    `json:"people" description:"those that wait for people only"`
	Blocked int    `json:"blocked" description:"those that something else keeps back"`
	// Open lists the requirements that are not met, with how many versions each keeps back.
	Open []OpenRequirement `json:"open"`
}

// OpenRequirement is a requirement with how many versions it keeps back.
type OpenRequirement struct {
	Requirement string `json:"requirement"`
	Versions    int    `json:"versions"`
	Example     string `json:"example" description:"the sentence about one of them"`
}

// VersionPreview is what keeps one version back.
type VersionPreview struct {
	Version  string         `json:"version"`
	From     string         `json:"from"`
	To       string         `json:"to"`
	State    string         `json:"state" enum:"pass,people,blocked"`
	Findings []rule.Finding `json:"findings"`
}

// Count counts a version of the rung below in.
func (r *RungPreview) Count(state string) {
	r.Asked++
	switch state {
	case "pass":
		r.Pass++
	case "people":
		r.People++
	default:
		r.Blocked++
	}
}

// KeepBack counts a version in that a finding keeps back.
func (r *RungPreview) KeepBack(f rule.Finding) {
	i := slices.IndexFunc(r.Open, func(o OpenRequirement) bool { return o.Requirement == f.Requirement })
	if i < 0 {
		r.Open = append(r.Open, OpenRequirement{f.Requirement, 0, f.Sentence})
		i = len(r.Open) - 1
	}
	r.Open[i].Versions++
}
