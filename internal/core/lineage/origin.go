package lineage

import (
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// Pair is the role and the data set without its revision, and the data set.
func (u DataUse) Pair() (string, string) {
	name, _ := naming.Thing(u.Data)
	return u.Role + " " + name, u.Data
}

// Fields are what it says, by name; empty for nil.
func (c *Code) Fields() map[string]string {
	if c == nil {
		return nil
	}
	m := map[string]string{"commit": c.Commit}
	if c.Branch != "" {
		m["branch"] = c.Branch
	}
	if c.Dirty {
		m["uncommitted changes"] = "yes"
	}
	return m
}

// DataRef names a data set, or one revision of it.
type DataRef struct {
	Name string
	// Number is the revision's number; 0 for all of them.
	Number int
}

// String is the ref as it is written: winters-2024#2.
func (r DataRef) String() string {
	if r.Number == 0 {
		return r.Name
	}
	return r.Name + "#" + strconv.Itoa(r.Number)
}

// ParseDataRef reads winters-2024 or winters-2024#2.
func ParseDataRef(field, s string) (DataRef, error) {
	name, number, numbered := strings.Cut(s, "#")
	if err := naming.Check(field, name); err != nil {
		return DataRef{}, err
	}
	if !numbered {
		return DataRef{Name: name}, nil
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 {
		return DataRef{}, fault.New(fault.Invalid, "data.revision", "%q names no revision of a data set", s).In(field).
			Do("write NAME#NUMBER, such as %s#1", name)
	}
	return DataRef{name, n}, nil
}

// runs are how runs are known.
var runs = naming.Numbered{Prefix: "run-", What: "run"}

// RunRef is how a run is named.
func RunRef(number int64) string { return runs.ID(number) }

// ParseRunRef reads run-12.
func ParseRunRef(field, s string) (int64, error) { return runs.Parse(field, s) }

// Code is where the code that made a version was when it did.
type Code struct {
	Repository string `json:"repository,omitempty" description:"address of the origin, without credentials"`
	Commit     string `json:"commit"`
	Branch     string `json:"branch,omitempty"`
	Dirty      bool   `json:"dirty" description:"true when files differed from the commit"`
}

// DataUse is a data set that a version or a run used.
type DataUse struct {
	// Data is NAME#NUMBER, a revision of a data set.
	Data string `json:"data" description:"NAME#NUMBER"`
	Role string `json:"role" enum:"trained-on,validated-on,evaluated-on"`
}

// Parent is a version that another was made from.
type Parent struct {
	Version  string `json:"version" description:"MODEL@NUMBER"`
	Relation string `json:"relation" description:"how, such as fine-tuned"`
}
