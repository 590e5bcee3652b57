package wire

import (
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// Part is what a file that comes with a registration is.
type Part string

// The parts.
const (
	PartArtifact     Part = "artifact"
	PartSample       Part = "sample"
	PartReference    Part = "reference"
	PartCard         Part = "card"
	PartRequirements Part = "requirements"
	PartAttachment   Part = "attachment"
	PartAnswers      Part = "answers"
	PartReport       Part = "report"
)

// Enum lists the parts for the document of the API.
func (Part) Enum() []any {
	var out []any
	for _, p := range Parts() {
		out = append(out, p)
	}
	return out
}

// Parts lists the parts that files come as.
func Parts() []Part {
	return []Part{
		PartArtifact, PartSample, PartReference, PartCard, PartRequirements,
		PartAttachment, PartAnswers, PartReport,
	}
}

// PartOf reads the name of a part, or says which there are.
func PartOf(field, name string) (Part, error) {
	if p := Part(name); slices.Contains(Parts(), p) {
		return p, nil
	}
	return "", fault.New(fault.Invalid, "register.part", "there is no part %q", name).In(field).
		Do("use one of %s", PartNames())
}

// PartNames lists the names of the parts in a sentence.
func PartNames() string {
	var names []string
	for _, p := range Parts() {
		names = append(names, string(p))
	}
	return strings.Join(names, ", ")
}
