// Package traffic says which lane answers: what a split may look like, whether it may
// come into force, and how a request is assigned to a lane.
package traffic

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

// Whole is all of an endpoint's traffic in basis points, the unit of shares.
const Whole = 10_000

// LaneKind is what a lane is for.
type LaneKind string

const (
	// Main answers by default.
	Main LaneKind = "main"
	// Trial is being tried.
	Trial LaneKind = "trial"
	// Shadow gets copies of what main has answered, and answers nobody.
	Shadow LaneKind = "shadow"
)

// Lane is the part of an endpoint's traffic that goes to one version.
type Lane struct {
	Kind    LaneKind `json:"kind" enum:"main,trial,shadow"`
	Version string   `json:"version" description:"MODEL@NUMBER"`
	// Share is that of the requests; of a shadow, the share of main's requests of which it gets a copy.
	Share int `json:"share" minimum:"0" maximum:"10000" description:"basis points; 10000 is all"`
	// Tolerance is how far apart numbers of a shadow and of main may be that count as the same, as a share of the
	// larger.
	Tolerance float64 `json:"tolerance,omitempty" minimum:"0" maximum:"1" description:"of a shadow: how far numbers may be apart that agree, as a share; else 0.05"`
}

// UsualTolerance is how far apart numbers may be that count as the same where nothing else is said.
const UsualTolerance = 0.05

// Answers reports whether callers get the answers of a lane.
func (k LaneKind) Answers() bool { return k == Main || k == Trial }

// mostShadows is how many versions may get copies at once.
const mostShadows = 3

// Split is all lanes of an endpoint with their shares: immutable and numbered.
type Split struct {
	Endpoint string `json:"endpoint"`
	Number   int    `json:"number"`
	Lanes    []Lane `json:"lanes"`
	// Rules come before shares.
	Rules  []Rule    `json:"rules,omitempty" description:"they come before shares; the first that is met counts"`
	Reason string    `json:"reason"`
	Author string    `json:"author"`
	MadeAt time.Time `json:"made_at"`
	// ReturnsTo is the revision that this one repeats, 0 for a new arrangement.
	ReturnsTo int `json:"returns_to,omitempty"`
	// Leaves is the revision that this one is a way back from, 0 when it is none.
	Leaves int `json:"leaves,omitempty" description:"the split that this one is a way back from"`
	// Rollout is the one that made it, empty for a person or a guard.
	Rollout string `json:"rollout,omitempty" description:"R-NUMBER of the rollout that made it"`
	// Contract is the one of the endpoint that all its versions keep, 0 when none was known.
	Contract int `json:"contract,omitempty" description:"the contract that all its versions keep"`
	// Elsewhere splits say what answers where the gateway does not reach.
	Elsewhere bool `json:"elsewhere,omitempty" description:"its version answers where the gateway does not reach"`
	// Unrecorded is set while it is in force at the gateway and could not be written down yet.
	Unrecorded bool `json:"unrecorded,omitempty" description:"in force at the gateway; the record follows"`
	// Left says why this one was left; nil when it is in force, or made place for the next.
	Left *Left `json:"left,omitempty" description:"set when a person or a guard left the split for a reason"`
}

// Left says that a split was left for a reason, by a person or by a guard: nothing leads back
// to it by itself.
type Left struct {
	By  string    `json:"by"`
	At  time.Time `json:"at"`
	Why string    `json:"why"`
	For int       `json:"for" description:"the split that came into force instead"`
}

// Main is the main lane.
func (s *Split) Main() Lane {
	i := slices.IndexFunc(s.Lanes, func(l Lane) bool { return l.Kind == Main })
	return s.Lanes[i]
}

// Trials are the trial lanes, in order.
func (s *Split) Trials() []Lane { return s.of(Trial) }

// Answering are the lanes whose answers callers get: those that are no shadow.
func Answering(lanes []Lane) (out []Lane) {
	for _, l := range lanes {
		if l.Kind != Shadow {
			out = append(out, l)
		}
	}
	return out
}

// Shadows are the lanes that get copies, in order.
func (s *Split) Shadows() []Lane { return s.of(Shadow) }

func (s *Split) of(kind LaneKind) (out []Lane) {
	for _, l := range s.Lanes {
		if l.Kind == kind {
			out = append(out, l)
		}
	}
	return out
}

// String is the split in words: heat-demand@1 90 %, heat-demand@2 10 % trial.
func (s *Split) String() string {
	parts := make([]string, len(s.Lanes))
	for i, l := range s.Lanes {
		parts[i] = fmt.Sprintf("%s %s", l.Version, Percent(l.Share))
		switch l.Kind {
		case Trial:
			parts[i] += " trial"
		case Shadow:
			parts[i] = fmt.Sprintf("%s copies of %s", l.Version, Percent(l.Share))
		}
	}
	return strings.Join(parts, ", ")
}

// Percent writes basis points as people do: 90 %, 12.5 %.
func Percent(basisPoints int) string {
	return strconv.FormatFloat(float64(basisPoints)/100, 'f', -1, 64) + " %"
}

// ParsePercent reads 90, 12.5 or 0.05 as basis points.
func ParsePercent(field, s string) (int, error) {
	bad := func(why string) (int, error) {
		return 0, fault.New(fault.Invalid, "split.share", "share %q %s", s, why).In(field).
			Do("give per cent from 0 to 100 with at most two decimals, such as 90 or 12.5")
	}
	x, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(s), "%")), 64)
	if err != nil || x != x {
		return bad("is no number")
	}
	if x < 0 || x > 100 {
		return bad("is outside of 0 to 100")
	}
	points := int(x*100 + 0.5)
	if diff := x*100 - float64(points); diff > 1e-6 || diff < -1e-6 {
		return bad("is finer than 0.01")
	}
	return points, nil
}

// CopyHeader tells a model server that nobody acts on its answer: the request is a copy of one that another version
// has answered.
const CopyHeader = "Inner-Ladder-Copy"

// CheckLanes says whether lanes can be a split at all: one main lane, shares that add
// up to all, no version twice.
func CheckLanes(lanes []Lane) error {
	if len(lanes) == 0 {
		return fault.New(fault.Invalid, "split.empty", "the split has no lanes").In("lanes").
			Do("name at least one version with its share")
	}
	total, mains, shadows := 0, 0, 0
	seen := map[string]bool{}
	for i, l := range lanes {
		field := fmt.Sprintf("lanes[%d]", i)
		switch {
		case l.Kind != Main && l.Kind != Trial && l.Kind != Shadow:
			return fault.New(fault.Invalid, "split.kind", "%q is no kind of lane", l.Kind).In(field + ".kind").
				Do("use main, trial or shadow")
		case l.Share < 0 || l.Share > Whole:
			return fault.New(fault.Invalid, "split.share", "a share of %d basis points is outside of 0 to %d", l.Share,
				Whole).In(field + ".share").Do("give basis points; 10000 is all")
		case l.Kind == Shadow && l.Share == 0:
			return fault.New(fault.Invalid, "split.copies", "%s gets copies of nothing", l.Version).
				In(field + ".share").Do("give the share of requests of which it gets a copy, or leave it out")
		case l.Kind != Shadow && l.Tolerance != 0, !(l.Tolerance >= 0 && l.Tolerance <= 1):
			return fault.New(fault.Invalid, "split.tolerance", "%s has a tolerance of %v", l.Version, l.Tolerance).
				In(field + ".tolerance").Do("give a share from 0 to 1 to a shadow, such as 0.05, and none to others")
		case seen[l.Version]:
			return fault.New(fault.Invalid, "split.twice", "%s is named twice", l.Version).In(field + ".version").
				Do("name each version once")
		}
		seen[l.Version] = true
		switch l.Kind {
		case Main:
			mains++
		case Shadow:
			shadows++
			continue // copies come on top
		}
		total += l.Share
	}
	if mains != 1 {
		return fault.New(fault.Invalid, "split.main", "the split has %d main lanes", mains).In("lanes").
			Do("make exactly one lane main")
	}
	if shadows > mostShadows {
		return fault.New(fault.Invalid, "split.shadows", "%d versions get copies", shadows).In("lanes").
			Do("give copies to %d at most", mostShadows)
	}
	if total != Whole {
		return fault.New(fault.Invalid, "split.sum", "the shares add up to %s", Percent(total)).In("lanes").
			Do("make them add up to 100 %%; %s %s", Percent(abs(Whole-total)),
				map[bool]string{true: "are missing", false: "are too much"}[total < Whole])
	}
	return nil
}

func abs(n int) int { return max(n, -n) }

// Standing is what is known of a version where a lane would send traffic to it.
type Standing struct {
	Version string
	Model   string
	// Rung is where the version stands, Height its position on the ladder from below,
	// -1 for off the ladder.
	Rung   string
	Height int
	// Placed and Healthy are about the endpoint's environment; Reason says why not.
	Placed  bool
	Healthy bool
	Reason  string
	// Elsewhere is set where it answers out of the gateway's reach.
	Elsewhere bool
	// Signature is what it takes and gives there, exactly; nil when it is not known.
	Signature *signature.Signature
}

// AreElsewhere says whether the versions of a split answer out of the gateway's reach, and refuses what that cannot be:
// shares of callers and copies are dealt by the gateway, so a version elsewhere is the only one.
func AreElsewhere(standings []Standing) (elsewhere bool, err error) {
	for _, s := range standings {
		if s.Elsewhere && len(standings) > 1 {
			return false, fault.New(fault.Refused, "split.elsewhere", "%s answers elsewhere, where nothing deals "+
				"callers their shares", s.Version).In("lanes").
				Do("give it all: %s=100; what other versions do there is reported and compared all the same", s.Version)
		}
		elsewhere = elsewhere || s.Elsewhere
	}
	return elsewhere, nil
}

// Demand is what an endpoint asks of the versions that answer for it.
type Demand struct {
	Endpoint    string
	Model       string
	Environment string
	Rung        string
	Height      int
	// Ladder gives the height of any rung.
	Ladder func(rung string) int
}

// Check says whether a version may have a lane now; field is where it was named. On copies a version earns what its
// rung demands, so a shadow may stand on any.
func (d Demand) Check(l Lane, s Standing, field string) error {
	if !l.Kind.Answers() {
		d.Height = -1
	}
	if lacks := d.Lacks(s, field); len(lacks) > 0 {
		return lacks[0]
	}
	return nil
}

// Lacks lists all that a version lacks to answer for the endpoint; field is where it was named.
func (d Demand) Lacks(s Standing, field string) (out []*fault.Fault) {
	lack := func(code, what string, args ...any) *fault.Fault {
		f := fault.New(fault.Refused, "split."+code, what, args...).In(field)
		out = append(out, f)
		return f
	}
	if s.Model != d.Model {
		lack("model", "%s is not a version of %s, which %s serves", s.Version, d.Model, d.Endpoint).
			Do("name versions of %s", d.Model)
		return out
	}
	if s.Height < d.Height {
		lack("rung", "%s stands on %s; %s demands %s", s.Version, s.Rung, d.Endpoint, d.Rung).
			Do("ask for it with: innerladder promote %s -to %s", s.Version, d.Rung)
	}
	switch {
	case !s.Placed:
		lack("not_placed", "%s is not placed in %s", s.Version, d.Environment).
			Do("place it with: innerladder place %s -env %s -at URL", s.Version, d.Environment)
	case !s.Healthy:
		lack("not_healthy", "%s is placed in %s but not healthy: %s", s.Version, d.Environment, s.Reason).
			Do("mend the model server; it is checked again every second")
	}
	return out
}
