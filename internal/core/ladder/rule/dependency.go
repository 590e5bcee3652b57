package rule

import (
	"regexp"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"

	version "github.com/aquasecurity/go-pep440-version"
)

// NoDenied demands that the version needs none of some packages.
type NoDenied struct {
	// Denied are names, or names with one bound: numpy<1.22, oldlib==2.1.
	Denied []string `json:"denied"`
}

var dependencyKind = KindInfo{"no_denied_dependency", "the version needs none of these packages", []Setting{
	{"denied", "texts", "names, or names with one bound: oldlib, numpy<1.22, badlib==2.1", nil},
}, as[NoDenied]}

// Kind names it.
func (NoDenied) Kind() string { return dependencyKind.Kind }

var denial = regexp.MustCompile(`^([A-Za-z0-9][A-Za-z0-9._-]*)\s*(?:(==|<=|>=|<|>)\s*([0-9][0-9A-Za-z.!+_-]*))?$`)

func (q NoDenied) check(field string) error {
	if len(q.Denied) == 0 {
		return fault.New(fault.Invalid, "requirement.denied", "no package is denied").In(field + ".denied").
			Do("name some, such as oldlib or numpy<1.22")
	}
	for _, d := range q.Denied {
		if !denial.MatchString(d) {
			return fault.New(fault.Invalid, "requirement.denied", "%q names no package", d).In(field + ".denied").
				Do("write NAME or NAME with one bound, such as numpy<1.22")
		}
		if b := boundOf(d); b.relation != "" {
			if _, err := version.Parse(b.release); err != nil {
				return fault.New(fault.Invalid, "requirement.denied", "%q names no release", d).In(field + ".denied").
					Do("write releases as Python's packages number them (PEP 440), such as numpy<1.22")
			}
		}
	}
	return nil
}

// pinned is the one release that a dependency allows, where it allows one.
var pinned = regexp.MustCompile(`^={2,3}\s*([0-9][0-9A-Za-z.!+_-]*)$`)

// Evaluate looks at every dependency. One that is not pinned to a release may turn out
// to be a denied one, so it is not let through where only some releases are denied.
func (q NoDenied) Evaluate(f Facts) Outcome {
	if len(f.Version.Dependencies) == 0 {
		return waits(f.Version.Ref, "It is not known what the version needs; register it with its requirements.")
	}
	denied := make([]bound, len(q.Denied))
	for i, d := range q.Denied {
		denied[i] = boundOf(d)
	}
	for _, d := range f.Version.Dependencies {
		name := registry.PackageName(d.Name)
		for _, b := range denied {
			if b.name != name {
				continue
			}
			if o := b.judge(f.Version.Ref, d); o != nil {
				return *o
			}
		}
	}
	return passed(f.Version.Ref, "None of %s is denied.", describeCount(len(f.Version.Dependencies), "package"))
}

// bound is what is denied, taken apart: the package, and which of its releases.
type bound struct{ text, name, relation, release string }

// boundOf takes apart what check let pass.
func boundOf(text string) bound {
	i := strings.IndexAny(text, "=<>")
	if i < 0 {
		return bound{text: text, name: registry.PackageName(strings.TrimSpace(text))}
	}
	release := strings.TrimLeft(text[i:], "=<>")
	return bound{
		text, registry.PackageName(strings.TrimSpace(text[:i])), text[i : len(text)-len(release)],
		strings.TrimSpace(release),
	}
}

// judge says what is wrong with a dependency on the package, nil when nothing is.
func (b bound) judge(ref string, d registry.Dependency) *Outcome {
	if b.relation == "" {
		o := failed(ref, "It needs %s, which is denied.", d.Name)
		return &o
	}
	pin := pinned.FindStringSubmatch(strings.TrimSpace(d.Want))
	if pin == nil {
		o := failed(ref, "It needs %s%s, which may be %s, and that is denied; pin it with ==.", d.Name, d.Want, b.text)
		return &o
	}
	is, err := version.Parse(pin[1])
	if err != nil {
		o := failed(ref, "It needs %s %s, which is no release by PEP 440, so it may be %s, and that is denied.", d.Name,
			pin[1], b.text)
		return &o
	}
	if b.holds(is) {
		o := failed(ref, "It needs %s %s, and %s is denied.", d.Name, pin[1], b.text)
		return &o
	}
	return nil
}

// holds reports whether a release is among those denied. Releases stand in the order of PEP 440;
// what a build adds to a release, as in 2.1.0+cu121, counts only where the bound has one too.
func (b bound) holds(is version.Version) bool {
	than, err := version.Parse(b.release)
	if err == nil && than.Local() == "" {
		is, err = version.Parse(is.Public())
	}
	if err != nil {
		return true // a ladder set long ago may name what is no release: nothing is let through by it
	}
	c := is.Compare(than)
	return map[string]bool{"==": c == 0, "<": c < 0, ">": c > 0, "<=": c <= 0, ">=": c >= 0}[b.relation]
}
