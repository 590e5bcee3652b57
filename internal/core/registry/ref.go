// Package registry knows what a model version is: its name, its signature, what it was
// made from, and how two of them differ.
package registry

import (
	"regexp"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
)

// LongestName is the largest number of bytes in a name.
const LongestName = 63

var nameForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)

// CheckName says whether name can name a model, endpoint, environment or person; field
// is where it was given.
func CheckName(field, name string) error {
	if name == "" {
		return fault.New(fault.Invalid, "name.empty", "the name is empty").In(field).
			Do("give a name of small letters, digits and hyphens")
	}
	if len(name) > LongestName || !nameForm.MatchString(name) {
		return fault.New(fault.Invalid, "name.form", "%q cannot be a name", name).In(field).
			Do("use small letters, digits and inner hyphens, at most %d of them", LongestName)
	}
	return nil
}

// Ref is how a version is named: by its number, or by the rung it stands on. Nothing
// ever stands for "the newest".
type Ref struct {
	Model string
	// Number is the version's number; 0 when Rung is set.
	Number int
	// Rung names the rung whose version is meant; empty when Number is set.
	Rung string
}

// String is the ref as it is written: heat-demand@7 or heat-demand@live.
func (r Ref) String() string {
	if r.Number > 0 {
		return r.Model + "@" + strconv.Itoa(r.Number)
	}
	return r.Model + "@" + r.Rung
}

// ParseRef reads a ref such as heat-demand@7 or heat-demand@live.
func ParseRef(field, s string) (Ref, error) {
	model, which, found := strings.Cut(s, "@")
	if !found || which == "" {
		return Ref{}, fault.New(fault.Invalid, "ref.no_version", "%q does not say which version", s).In(field).
			Do("write MODEL@NUMBER, such as %s@1, or MODEL@RUNG, such as %s@live; there is no default", orModel(model), orModel(model))
	}
	if err := CheckName(field, model); err != nil {
		return Ref{}, err
	}
	if n, err := strconv.Atoi(which); err == nil {
		if n < 1 {
			return Ref{}, fault.New(fault.Invalid, "ref.number", "%q names version %d", s, n).In(field).
				Do("versions are numbered from 1")
		}
		return Ref{Model: model, Number: n}, nil
	}
	if err := CheckName(field, which); err != nil {
		return Ref{}, err
	}
	return Ref{Model: model, Rung: which}, nil
}

func orModel(s string) string {
	if s == "" {
		return "heat-demand"
	}
	return s
}
