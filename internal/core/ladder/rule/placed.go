package rule

import (
	"strings"

	"innerladder/internal/core/fault"
)

// Placed demands that the version runs in an environment and is healthy there.
type Placed struct {
	Environment string `json:"environment"`
}

var placedKind = KindInfo{"placed", "the version runs in an environment and is healthy there", []Setting{
	{"environment", "text", "its name", nil},
}, as[Placed]}

// Kind names it.
func (Placed) Kind() string { return placedKind.Kind }

func (q Placed) check(field string) error {
	if strings.TrimSpace(q.Environment) == "" {
		return fault.New(fault.Invalid, "requirement.environment", "no environment is named").
			In(field + ".environment").Do("name one")
	}
	return nil
}

// Evaluate looks for the placement.
func (q Placed) Evaluate(f Facts) Outcome {
	for _, p := range f.Places {
		switch {
		case p.Environment != q.Environment:
		case p.Healthy:
			return passed(q.Environment, "It runs in %s and is healthy.", q.Environment)
		default:
			return waits(q.Environment, "It is placed in %s and not healthy there: %s.", q.Environment,
				strings.TrimRight(p.Reason, "."))
		}
	}
	return waits(q.Environment, "It is not placed in %s.", q.Environment)
}
