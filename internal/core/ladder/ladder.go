// Package ladder holds the rungs that versions climb, the gates between them, and the
// promotions by which they climb: what is allowed, and why not.
package ladder

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/span"
)

// Retired is where versions stand that are off the ladder.
const Retired = "retired"

// Rung is one approval stage.
type Rung struct {
	Name    string `json:"name" required:"true"`
	Meaning string `json:"meaning,omitempty"`
	// HoldsOne says that at most one version of a model stands there: who steps up sends
	// the one that stood there down.
	HoldsOne bool `json:"holds_one,omitempty" description:"at most one version of a model stands here; false for as many as there are"`
	// Displaced is where the one goes that is sent down.
	Displaced string `json:"displaced,omitempty" enum:"below,retired" description:"where the version goes that is sent down, where only one may stand; below when not given"`
	// Skip says that versions may step here past rungs between; the gates of those count
	// all the same.
	Skip bool `json:"skip,omitempty" description:"versions may step here past the rungs between, whose gates count all the same"`
	// Ask and Sign are roles; empty for everyone with the permission.
	Ask  []string `json:"ask,omitempty" description:"roles that may ask for the rung; everyone with the permission when there are none"`
	Sign []string `json:"sign,omitempty" description:"roles that may sign for the rung; everyone with the permission when there are none"`
	// Gate is what a version must meet to step on the rung.
	Gate []rule.Requirement `json:"gate"`
}

// How a promotion is carried out once its gate is met.
const (
	AtOnce = "at_once"
	ByHand = "by_hand"
)

// Ladder is the ordered list of rungs, the lowest first, and what holds for all
// promotions on it.
type Ladder struct {
	Rungs []Rung `json:"rungs" required:"true"`
	// CarryOut is AtOnce or ByHand; empty is AtOnce.
	CarryOut string `json:"carry_out,omitempty" enum:"at_once,by_hand" description:"when the gate is met; at_once when not given"`
	// RemindAfter is how long reviewers are left alone, ExpireAfter how long a promotion
	// stays open that nobody answers.
	RemindAfter span.Duration `json:"remind_after,omitempty" description:"when reviewers are reminded, such as 24h"`
	ExpireAfter span.Duration `json:"expire_after,omitempty" description:"when what nobody answers ends, such as 336h"`
	// Freezes are the windows in which nothing steps on a rung whose gate has no_freeze.
	Freezes []rule.Freeze `json:"freezes,omitempty"`
}

// Revision is one state of a project's ladder. Number 0 is the default one.
type Revision struct {
	Project string `json:"project"`
	Number  int    `json:"number" description:"0 is the default ladder"`
	Ladder
	Author string    `json:"author,omitempty"`
	Reason string    `json:"reason,omitempty"`
	MadeAt time.Time `json:"made_at,omitzero"`
}

const (
	usualReminder = 24 * time.Hour
	usualExpiry   = 14 * 24 * time.Hour
)

// Default serves a team that has set nothing up.
func Default() Ladder {
	return Ladder{
		Rungs: []Rung{
			{Name: "draft", Meaning: "registered, nothing asked yet", Gate: []rule.Requirement{}},
			{
				Name: "proven", Meaning: "its bytes are here and it was measured",
				Gate: []rule.Requirement{{Rule: rule.ArtifactStored{}}, {Rule: rule.MetricRecorded{}}},
			},
			{
				Name: "rehearsal", Meaning: "may run beside the live ones", Skip: true,
				Gate: []rule.Requirement{{Rule: rule.SignatureNotBroken{}}},
			},
			{
				Name: "live", Meaning: "may answer real traffic", Skip: true, Gate: []rule.Requirement{
					{Rule: rule.MetricRecorded{Measured: true}},
					{Rule: rule.SignOffs{Count: 1}},
				},
			},
		},
		CarryOut: AtOnce, RemindAfter: span.Duration(usualReminder), ExpireAfter: span.Duration(usualExpiry),
	}
}

// Height is the position of a rung from below, from 0; -1 when the ladder has none of
// that name.
func (l Ladder) Height(rung string) int {
	return slices.IndexFunc(l.Rungs, func(r Rung) bool { return r.Name == rung })
}

// Lowest is the rung on which versions start, Highest the one that they climb to.
func (l Ladder) Lowest() string { return l.Rungs[0].Name }

// Highest is the rung on top.
func (l Ladder) Highest() string { return l.Rungs[len(l.Rungs)-1].Name }

// Below is the rung under another; the lowest has none.
func (l Ladder) Below(rung string) (string, bool) {
	if h := l.Height(rung); h > 0 {
		return l.Rungs[h-1].Name, true
	}
	return "", false
}

// Rung finds a rung by name; its zero value when there is none.
func (l Ladder) Rung(name string) Rung {
	if h := l.Height(name); h >= 0 {
		return l.Rungs[h]
	}
	return Rung{}
}

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

const (
	mostRungs   = 20
	mostPerGate = 50
)

// Check says whether a ladder that someone made can be climbed, and fills in what was
// left out.
func (l *Ladder) Check() error {
	if len(l.Rungs) < 2 || len(l.Rungs) > mostRungs {
		return fault.New(fault.Invalid, "ladder.rungs", "the ladder has %d rungs", len(l.Rungs)).In("rungs").
			Do("give from 2 to %d, the lowest first", mostRungs)
	}
	switch l.CarryOut {
	case "":
		l.CarryOut = AtOnce
	case AtOnce, ByHand:
	default:
		return fault.New(fault.Invalid, "ladder.carry_out", "%q is no way to carry a promotion out", l.CarryOut).
			In("carry_out").Do("use %s or %s", AtOnce, ByHand)
	}
	for field, d := range map[string]*span.Duration{"remind_after": &l.RemindAfter, "expire_after": &l.ExpireAfter} {
		if *d == 0 {
			*d = map[string]span.Duration{
				"remind_after": span.Duration(usualReminder), "expire_after": span.Duration(usualExpiry),
			}[field]
		}
		if *d < span.Duration(time.Minute) {
			return fault.New(fault.Invalid, "ladder.time", "%s is %s", field, *d).In(field).
				Do("give at least 1m, such as 24h")
		}
	}
	seen := map[string]bool{Retired: true}
	for i := range l.Rungs {
		if err := l.Rungs[i].check(fmt.Sprintf("rungs[%d]", i), i == 0, seen); err != nil {
			return err
		}
	}
	for i, f := range l.Freezes {
		if err := f.Check(fmt.Sprintf("freezes[%d]", i)); err != nil {
			return err
		}
	}
	return nil
}

// check says what is wrong with a rung and fills in what was left out; seen are the names that
// are taken.
func (r *Rung) check(field string, lowest bool, seen map[string]bool) error {
	switch {
	case !naming.Word.MatchString(r.Name):
		return fault.New(fault.Invalid, "ladder.rung_name", "%q is no name for a rung", r.Name).In(field + ".name").
			Do("use small letters, digits, - and _, beginning with a letter")
	case seen[r.Name]:
		return fault.New(fault.Invalid, "ladder.rung_twice",
			"there are two rungs %q; retired is one that every ladder has beside it", r.Name).In(field + ".name").
			Do("give each its own name")
	case lowest && r.HoldsOne:
		return fault.New(fault.Invalid, "ladder.lowest", "%s is the lowest rung and holds one version", r.Name).
			In(field + ".holds_one").Do("versions are registered on the lowest rung, so it must hold many")
	case lowest && len(r.Gate) > 0:
		return fault.New(fault.Invalid, "ladder.lowest", "%s is the lowest rung and has a gate", r.Name).
			In(field + ".gate").Do("nobody steps up to the lowest rung; put the gate on the next")
	case r.Displaced != "" && !r.HoldsOne:
		return fault.New(fault.Invalid, "ladder.displaced", "%s says where displaced versions go and holds many",
			r.Name).In(field + ".displaced").Do("leave it out, or say holds_one")
	case r.Displaced != "" && r.Displaced != "below" && r.Displaced != Retired:
		return fault.New(fault.Invalid, "ladder.displaced", "%q is nowhere a version can go", r.Displaced).
			In(field + ".displaced").Do("use below or retired")
	case len(r.Gate) > mostPerGate:
		return fault.New(fault.Invalid, "ladder.gate", "the gate of %s has %d requirements", r.Name, len(r.Gate)).
			In(field+".gate").Do("use at most %d", mostPerGate)
	}
	seen[r.Name] = true
	if r.Gate == nil {
		r.Gate = []rule.Requirement{}
	}
	return r.checkGate(field)
}

// checkGate says what is wrong with what a rung demands.
func (r *Rung) checkGate(field string) error {
	items := map[string]bool{}
	for j, q := range r.Gate {
		at := fmt.Sprintf("%s.gate[%d]", field, j)
		if err := q.Check(at); err != nil {
			return err
		}
		if c, ok := q.Rule.(rule.Looked); ok {
			for _, item := range c.Look() {
				if items[item.Name] {
					return fault.New(fault.Invalid, "ladder.item_twice",
						"the gate of %s has two checklist items %q", r.Name, item.Name).In(at).
						Do("give each its own name")
				}
				items[item.Name] = true
			}
		}
	}
	return nil
}

// gates lists the requirements on the way from one rung up to another, each with the
// rung that asks for it. The gates of rungs that are passed over count too.
func (l Ladder) gates(from, to string) []gated {
	var out []gated
	low, high := l.Height(from)+1, l.Height(to)+1
	if low > high {
		return nil // the rungs were put in another order since
	}
	for _, r := range l.Rungs[low:high] {
		for _, q := range r.Gate {
			out = append(out, gated{r.Name, q})
		}
	}
	return out
}

// Asks reports whether any gate demands something of a kind.
func (l Ladder) Asks(kind string) bool {
	return slices.ContainsFunc(l.Rungs, func(r Rung) bool {
		return slices.ContainsFunc(r.Gate, func(q rule.Requirement) bool { return q.Kind() == kind })
	})
}

type gated struct {
	rung string
	rule.Requirement
}

// CheckClimb says whether a version on one rung may ask for another.
func (l Ladder) CheckClimb(version, from, to string) error {
	if err := l.CheckRung("to", to); err != nil {
		return err
	}
	h, target := l.Height(from), l.Height(to)
	switch {
	case from == Retired:
		return fault.New(fault.Refused, "promotion.retired", "%s is retired", version).In("version").
			Do("reinstate it before asking")
	case h == target:
		return fault.New(fault.Refused, "promotion.there_already", "%s stands on %s already", version, to).In("to").
			Do("nothing needs doing")
	case h > target:
		return fault.New(fault.Refused, "promotion.downwards", "%s stands on %s, above %s", version, from, to).In("to").
			Do("a promotion only goes up; to take a version out of traffic use: innerladder back")
	case target > h+1 && !l.Rungs[target].Skip:
		return fault.New(fault.Refused, "promotion.skips", "%s stands on %s, and %s does not let versions skip a rung",
			version, from, to).In("to").
			Do("ask for %s first", l.Rungs[h+1].Name)
	}
	return nil
}

// Move is one version that changes rungs.
type Move struct {
	Number   int
	From, To string
}

// Steps lists who moves when a version of a model steps on a rung: itself first, then
// whom it displaces, and whom those displace. standing has the numbers on each rung;
// busy reports versions that answer traffic, which are never retired by this but go to
// the rung below.
func (l Ladder) Steps(number int, from, to string, standing map[string][]int, busy func(number int) bool) []Move {
	moves := []Move{{number, from, to}}
	at := map[string][]int{}
	for rung, numbers := range standing {
		at[rung] = slices.DeleteFunc(slices.Clone(numbers), func(n int) bool { return n == number })
	}
	for rung := to; rung != Retired && l.Rung(rung).HoldsOne && len(at[rung]) > 0; {
		below, _ := l.Below(rung)
		next := below
		for _, n := range at[rung] {
			goes := below
			if l.Rung(rung).Displaced == Retired && !busy(n) {
				goes = Retired
			}
			moves = append(moves, Move{n, rung, goes})
			if goes == Retired {
				next = Retired
			} else {
				next = below
			}
		}
		// Those who stood there before are displaced by those who come down.
		rung = next
	}
	return moves
}
