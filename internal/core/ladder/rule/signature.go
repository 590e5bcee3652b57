package rule

import (
	"fmt"
	"strings"

	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
)

// SignatureNotBroken demands that the callers of the model's endpoints can call the candidate.
type SignatureNotBroken struct{}

var signatureKind = KindInfo{
	"signature_not_broken", "whoever calls the endpoints of the model can call the candidate",
	[]Setting{},
	as[SignatureNotBroken],
}

// Kind names it.
func (SignatureNotBroken) Kind() string { return signatureKind.Kind }

// Evaluate holds the version against the contracts of the endpoints that it could answer for;
// where there are none, against the incumbent.
func (SignatureNotBroken) Evaluate(f Facts) Outcome {
	if len(f.Contracts) > 0 {
		return keepsContracts(f)
	}
	if f.Incumbent == nil {
		return passed("", "No caller can break: no endpoint of the model answers, and no version is on the rung %s.",
			f.To)
	}
	candidate := f.Version.Signature
	if candidate == nil {
		candidate = f.exact("")
	}
	changes, compatibility := signature.Diff(f.Incumbent.Signature, candidate)
	switch {
	case compatibility == signature.Breaking:
		return failed(f.Version.Ref, "Callers of %s would break: %s.", f.Incumbent.Ref,
			traffic.Fit{Changes: changes}.Breaks())
	case compatibility != signature.NotKnown:
		return passed(f.Version.Ref, "Signature %s with %s.", compatibility, f.Incumbent.Ref)
	case f.Incumbent.Signature != nil:
		return waits(f.Version.Ref, "It is not known whether callers of %s can call it: it has no signature.",
			f.Incumbent.Ref)
	case f.IncumbentAnswers:
		return waits(f.Version.Ref, "It is not known what callers of %s rely on: it has no signature, and its "+
			"endpoint no contract yet.", f.Incumbent.Ref)
	}
	return passed(f.Version.Ref, "No caller can break: no endpoint of the model answers, and %s, which is on the "+
		"rung, has no signature.",
		f.Incumbent.Ref)
}

// keepsContracts asks for every endpoint of the model whether the version keeps its contract.
func keepsContracts(f Facts) Outcome {
	var kept, broken, unknown []string
	for _, d := range f.Contracts {
		fit := d.Best(f.Version.Ref, f.exact(d.Newest().Environment))
		which := fmt.Sprintf("contract %d of %s", fit.Contract, fit.Endpoint)
		switch fit.Verdict {
		case signature.Breaking:
			broken = append(broken, fmt.Sprintf("It breaks %s: %s.", which, fit.Breaks()))
		case signature.NotKnown:
			unknown = append(unknown, which)
		case signature.Widened:
			kept = append(kept, which+" and widens it")
		case signature.Compatible:
			kept = append(kept, which)
		}
	}
	switch {
	case len(broken) > 0:
		return failed(f.Version.Ref, "%s", strings.Join(broken, " "))
	case len(unknown) > 0:
		return waits(f.Version.Ref, "It is not known whether it keeps %s: it has no signature. Place it somewhere, "+
			"and its server is asked.", strings.Join(unknown, " and "))
	}
	return passed(f.Version.Ref, "It keeps %s.", strings.Join(kept, " and "))
}

// exact is the signature of the version as far as it is known: as its servers in an environment
// declare it, else as those of another do, else as it was registered.
func (f Facts) exact(environment string) *signature.Signature {
	var elsewhere *signature.Served
	for _, p := range f.Places {
		switch {
		case p.Declared == nil:
		case p.Environment == environment:
			return f.Version.Signature.Exactly(*p.Declared)
		case elsewhere == nil:
			elsewhere = p.Declared
		}
	}
	if elsewhere != nil {
		return f.Version.Signature.Exactly(*elsewhere)
	}
	return f.Version.Signature
}
