package ladder

import (
	"fmt"
	"strings"

	"innerladder/internal/core/registry"
)

// RequirementKind names a kind of requirement.
type RequirementKind string

// The kinds of requirements.
const (
	// ArtifactStored: the version has bytes, and they are in the store with their digest.
	ArtifactStored RequirementKind = "artifact_stored"
	// MetricRecorded: at least one metric was given at registration.
	MetricRecorded RequirementKind = "metric_recorded"
	// SignatureNotBroken: callers of the incumbent can call the candidate.
	SignatureNotBroken RequirementKind = "signature_not_broken"
	// SignOffs: so many people other than the one who asked said yes.
	SignOffs RequirementKind = "sign_offs"
)

// Requirement is one demand of a gate.
type Requirement struct {
	Kind RequirementKind `json:"kind" enum:"artifact_stored,metric_recorded,signature_not_broken,sign_offs"`
	// Count is how many are demanded, where the kind counts something.
	Count int `json:"count,omitempty"`
}

// State is how far a requirement is met.
type State string

// The states.
const (
	Passed  State = "passed"
	Failed  State = "failed"
	Waiting State = "waiting"
)

// Finding is one requirement with what was found about it.
type Finding struct {
	Rung        string          `json:"rung"`
	Requirement RequirementKind `json:"requirement"`
	State       State           `json:"state" enum:"passed,failed,waiting"`
	Sentence    string          `json:"sentence"`
}

// Candidate is what the gates look at.
type Candidate struct {
	Version *registry.Version
	// Incumbent stands on the rung asked for; nil when nobody does.
	Incumbent *registry.Version
	// StoredArtifacts is how many of the version's artifacts are in the store with the
	// digest that was registered.
	StoredArtifacts int
}

// Evaluate finds out how far every requirement between the candidate's rung and the
// rung asked for is met.
func (l Ladder) Evaluate(p *Promotion, c Candidate) []Finding {
	out := []Finding{}
	for _, g := range l.gates(p.From, p.To) {
		f := Finding{Rung: g.rung, Requirement: g.Kind}
		f.State, f.Sentence = g.evaluate(p, c)
		out = append(out, f)
	}
	return out
}

func (q Requirement) evaluate(p *Promotion, c Candidate) (State, string) {
	switch q.Kind {
	case ArtifactStored:
		n := len(c.Version.Artifacts)
		switch {
		case n == 0:
			return Failed, "The version has no artifact."
		case c.StoredArtifacts < n:
			return Failed, fmt.Sprintf("%d of %s not in the store with the registered digest.", n-c.StoredArtifacts, describeCount(n, "artifact"))
		}
		return Passed, fmt.Sprintf("%s stored, digest verified.", describeCount(n, "artifact"))
	case MetricRecorded:
		if len(c.Version.Metrics) == 0 {
			return Failed, "No metric was recorded; register the version with -metric NAME=VALUE."
		}
		return Passed, describeCount(len(c.Version.Metrics), "metric") + " recorded."
	case SignatureNotBroken:
		if c.Incumbent == nil {
			return Passed, "Nobody stands on " + p.To + " whose callers could break."
		}
		changes, compatibility := registry.DiffSignatures(c.Incumbent.Signature, c.Version.Signature)
		switch compatibility {
		case registry.Breaking:
			var names []string
			for _, ch := range changes {
				if ch.Breaking {
					names = append(names, strings.TrimSpace(ch.Name+" "+ch.Kind+", "+ch.From+" → "+ch.To))
				}
			}
			return Failed, fmt.Sprintf("Callers of %s would break: %s.", c.Incumbent.Ref, strings.Join(names, "; "))
		case registry.NotKnown:
			return Passed, fmt.Sprintf("Not compared with %s: a signature is missing.", c.Incumbent.Ref)
		}
		return Passed, fmt.Sprintf("Signature %s with %s.", compatibility, c.Incumbent.Ref)
	case SignOffs:
		return q.countSignOffs(p)
	}
	return Failed, fmt.Sprintf("This service does not know the requirement %q.", q.Kind)
}

func (q Requirement) countSignOffs(p *Promotion) (State, string) {
	var yes []string
	for _, s := range p.SignOffs {
		switch {
		case s.Stale || s.By == p.AskedBy:
		case s.Answer == No:
			return Failed, fmt.Sprintf("%s said no: %s.", s.By, strings.TrimRight(s.Note, "."))
		case s.Answer == Yes:
			yes = append(yes, s.By)
		}
	}
	if len(yes) < q.Count {
		return Waiting, fmt.Sprintf("Waits for %s by someone other than %s.", describeCount(q.Count-len(yes), "sign-off"), p.AskedBy)
	}
	return Passed, "Signed by " + strings.Join(yes, ", ") + "."
}
