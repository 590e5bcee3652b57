package rule

import (
	"strings"

	"innerladder/internal/core/signature"
)

// SignatureNotBroken demands that callers of the incumbent can call the candidate.
type SignatureNotBroken struct{}

var signatureKind = KindInfo{
	"signature_not_broken", "whoever calls the incumbent can call the candidate",
	[]Setting{},
	as[SignatureNotBroken],
}

// Kind names it.
func (SignatureNotBroken) Kind() string { return signatureKind.Kind }

// Evaluate compares the two signatures.
func (SignatureNotBroken) Evaluate(f Facts) Outcome {
	if f.Incumbent == nil {
		return passed("", "Nothing answers and nobody stands on %s, so no callers could break.", f.To)
	}
	changes, compatibility := signature.Diff(f.Incumbent.Signature, f.Version.Signature)
	switch compatibility {
	case signature.Breaking:
		var names []string
		for _, ch := range changes {
			if ch.Breaking {
				names = append(names, strings.TrimSpace(ch.Name+" "+ch.Kind+", "+ch.From+" → "+ch.To))
			}
		}
		return failed(f.Version.Ref, "Callers of %s would break: %s.", f.Incumbent.Ref, strings.Join(names, "; "))
	case signature.NotKnown:
		if f.Incumbent.Signature != nil {
			return waits(f.Version.Ref, "It is not known whether callers of %s can call it: it has no signature.",
				f.Incumbent.Ref)
		}
		return passed(f.Version.Ref, "Not compared: %s has no signature.", f.Incumbent.Ref)
	}
	return passed(f.Version.Ref, "Signature %s with %s.", compatibility, f.Incumbent.Ref)
}
