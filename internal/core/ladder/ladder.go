// Package ladder holds the rungs that versions climb, the gates between them, and the
// promotions by which they climb: what is allowed, and why not.
package ladder

import (
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// Retired is where versions stand that are off the ladder.
const Retired = "retired"

// Rung is one approval stage.
type Rung struct {
	Name    string `json:"name"`
	Meaning string `json:"meaning"`
	// Gate is what a version must meet to step on the rung.
	Gate []Requirement `json:"gate"`
}

// Ladder is the ordered list of rungs, the lowest first.
type Ladder struct {
	Rungs []Rung `json:"rungs"`
}

// Default serves a team that has set nothing up.
func Default() Ladder {
	return Ladder{Rungs: []Rung{
		{Name: "draft", Meaning: "registered, nothing asked yet", Gate: []Requirement{}},
		{Name: "proven", Meaning: "its bytes are here and it was measured", Gate: []Requirement{{Kind: ArtifactStored}, {Kind: MetricRecorded}}},
		{Name: "rehearsal", Meaning: "may run beside the live ones", Gate: []Requirement{{Kind: SignatureNotBroken}}},
		{Name: "live", Meaning: "may answer real traffic", Gate: []Requirement{{Kind: SignOffs, Count: 1}}},
	}}
}

// Height is the position of a rung from below, from 0; -1 when the ladder has none of
// that name.
func (l Ladder) Height(rung string) int {
	return slices.IndexFunc(l.Rungs, func(r Rung) bool { return r.Name == rung })
}

// Lowest is the rung on which versions start.
func (l Ladder) Lowest() string { return l.Rungs[0].Name }

// Names lists the rungs, the lowest first.
func (l Ladder) Names() []string {
	names := make([]string, len(l.Rungs))
	for i, r := range l.Rungs {
		names[i] = r.Name
	}
	return names
}

// CheckRung says whether the ladder has the rung.
func (l Ladder) CheckRung(field, rung string) error {
	if l.Height(rung) < 0 {
		return fault.New(fault.Invalid, "rung.unknown", "there is no rung %q", rung).In(field).
			Do("the rungs are %s", strings.Join(l.Names(), ", "))
	}
	return nil
}

// gates lists the requirements on the way from one rung up to another, each with the
// rung that asks for it. The gates of rungs that are passed over count too.
func (l Ladder) gates(from, to string) []gated {
	var out []gated
	for _, r := range l.Rungs[l.Height(from)+1 : l.Height(to)+1] {
		for _, q := range r.Gate {
			out = append(out, gated{r.Name, q})
		}
	}
	return out
}

type gated struct {
	rung string
	Requirement
}

// CheckClimb says whether a version on one rung may ask for another.
func (l Ladder) CheckClimb(version, from, to string) error {
	if err := l.CheckRung("to", to); err != nil {
		return err
	}
	switch {
	case from == Retired:
		return fault.New(fault.Refused, "promotion.retired", "%s is retired", version).In("version").Do("reinstate it before asking")
	case l.Height(from) == l.Height(to):
		return fault.New(fault.Refused, "promotion.there_already", "%s stands on %s already", version, to).In("to").Do("nothing needs doing")
	case l.Height(from) > l.Height(to):
		return fault.New(fault.Refused, "promotion.downwards", "%s stands on %s, above %s", version, from, to).In("to").
			Do("a promotion only goes up; to take a version out of traffic use: innerladder back")
	}
	return nil
}

// describeCount is "1 sign-off" or "2 sign-offs".
func describeCount(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
