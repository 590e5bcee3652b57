package rollout

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/traffic"
)

// Verb is what a person does with a rollout.
type Verb string

// The verbs.
const (
	ToHold   Verb = "hold"
	ToResume Verb = "resume"
	ToSpeed  Verb = "speed"
	ToFinish Verb = "finish"
	ToEnd    Verb = "end"
)

// Verbs are all that there are.
var Verbs = []Verb{ToHold, ToResume, ToSpeed, ToFinish, ToEnd}

// ByHand is what a person makes of a rollout, who says why.
func ByHand(r Rollout, seen Seen, do Verb, who, why string, now time.Time) (State, *Decision, error) {
	if !slices.Contains(Verbs, do) {
		return r.State, nil, fault.New(fault.Invalid, "rollout.do", "%q is nothing that can be done with one", do).
			In("do").
			Do("use one of %s", list(Verbs))
	}
	if err := naming.CheckReason(why, "say why with -why"); err != nil {
		return r.State, nil, err
	}
	m := &mover{&r, seen, now, r.State}
	refuse := func(remedy, what string, args ...any) (State, *Decision, error) {
		return r.State, nil, fault.New(fault.Refused, "rollout."+string(do), what, args...).In("do").Do("%s", remedy)
	}
	if r.Phase.Over() {
		return refuse("start another with: innerladder roll "+r.Endpoint+" -to MODEL@NUMBER", "%s is over: it is %s",
			r.ID, r.Phase.InWords())
	}
	said := fmt.Sprintf("%s says: %s.", who, strings.TrimSuffix(strings.TrimSpace(why), "."))
	if do == ToSpeed || do == ToFinish {
		if why, remedy := m.mayNotHurry(); why != "" {
			return refuse(remedy, "%s", why)
		}
	}
	switch do {
	case ToHold:
		if r.Held != nil {
			return refuse("nothing needs doing", "%s is held already, by %s: %s", r.ID, r.Held.By, r.Held.Why)
		}
		m.next.Held = &Held{By: who, At: now, Why: why}
		return m.next, m.decide(who, "", said, m.stays()), nil
	case ToResume:
		if r.Held == nil {
			return refuse("nothing needs doing", "%s is not held", r.ID)
		}
		m.next.Waived = r.Waived || r.Held.Cap
		m.next.Held, m.next.Patient = nil, now
		return m.next, m.decide(who, "", said, "It goes on."), nil
	case ToSpeed:
		if r.Phase == Baking {
			return refuse("finish it to end the bake, or end it to go back", "%s has taken over already", r.Candidate)
		}
		if r.Phase == Comparing && !seen.Verdict.Decided() {
			return refuse("wait, or finish it as it is", "%s is not decided yet", r.Plan.Compare.Signal)
		}
		cap := r.Plan.Harm.Share
		if r.Phase == Stepping && cap > 0 && m.nextShare() > cap && len(m.unproven(m.Plan.stopping())) > 0 {
			return refuse("wait until they are, or finish it, which answers for all of it",
				"past %s every guard must have shown %s good", traffic.Percent(cap), r.Candidate)
		}
		next, d := m.advance(who, said)
		return next, d, nil
	case ToFinish:
		if !r.Plan.TakesOver() {
			if r.Phase == Waiting {
				return refuse("wait until it has, or end it", "%s has not begun", r.ID)
			}
			next, d := m.advance(who, said)
			return next, d, nil
		}
		if r.Phase == Baking {
			next, d := m.end(Finished, traffic.Whole, m.counts(), said, fmt.Sprintf("%s stays.", r.Candidate))
			d.By = who
			return next, d, nil
		}
		d := m.takeOver(who, "", said)
		return m.next, d, nil
	}
	if r.Phase == Baking && seen.IncumbentHealthy == 0 {
		return refuse("mend its model servers first, or split by hand after finishing it",
			"%s has no healthy address to go back to", r.Incumbent)
	}
	did := fmt.Sprintf("%s answers all of %s.", r.Incumbent, r.Endpoint)
	if r.Plan.Kind == Shadow {
		did = fmt.Sprintf("%s gets no copies.", r.Candidate)
	}
	next, d := m.end(Ended, 0, "", said, did)
	d.By = who
	return next, d, nil
}

// mayNotHurry says why a rollout cannot be sped on, and what to do; empty when it can.
func (m *mover) mayNotHurry() (why, remedy string) {
	switch {
	case m.Held != nil:
		return fmt.Sprintf("%s is held: %s", m.ID, m.Held.Why), "resume it first"
	case m.seen.Frozen != "" && m.Phase != Baking:
		return "a change freeze is on: " + m.seen.Frozen, "wait for its end, or end it"
	case m.Phase == Waiting && len(m.seen.Lacking) > 0:
		return fmt.Sprintf("%s lacks what it needs: %s", m.Candidate, strings.Join(m.seen.Lacking, "; ")),
			"mend that first"
	case m.Phase != Waiting && m.seen.CandidateHealthy == 0:
		return m.Candidate + " has no healthy address", "mend its model servers first"
	}
	return "", ""
}

// Left is a rollout whose endpoint was returned to an earlier split by hand.
func Left(r Rollout, who, why string, split int, now time.Time) (State, *Decision) {
	m := &mover{&r, Seen{}, now, r.State}
	next, d := m.overtaken(fmt.Sprintf("%s went back: %s", who, why),
		fmt.Sprintf("%s#%d is in force instead.", r.Endpoint, split))
	d.By = who
	return next, d
}

// Stopped is a rollout that was refused its next step: it is held where it is.
func Stopped(r Rollout, seen Seen, why string, now time.Time) (State, *Decision) {
	m := &mover{&r, seen, now, r.State}
	d := m.hold(Itself, m.counts(), "Its next step was refused: "+why+".", false)
	d.Alarm = true
	return m.next, d
}

// Does says what a rollout does, with who or what does it.
func (r *Rollout) Does(who string) string {
	by := "by the plan " + r.Plan.Ref()
	switch r.Plan.Kind {
	case Comparison:
		return fmt.Sprintf("%s compares %s with %s, which answers %s, %s", who, r.Candidate, r.Incumbent,
			r.Endpoint, by)
	case Shadow:
		return fmt.Sprintf("%s tries %s on copies of what %s answers for %s, %s", who, r.Candidate, r.Incumbent,
			r.Endpoint, by)
	}
	return fmt.Sprintf("%s moves %s from %s to %s %s", who, r.Endpoint, r.Incumbent, r.Candidate, by)
}

// Begun is the first line of the log.
func (r *Rollout) Begun(now time.Time) *Decision {
	d := &Decision{
		At: now, By: r.By, Phase: Waiting, Readings: []guard.Reading{}, Seen: r.Does(r.By) + ".",
		Did: "It begins as soon as it may.",
	}
	if r.Reason != "" {
		d.Means = "“" + r.Reason + "”"
	}
	if r.StartsAt != nil {
		d.Did = "It waits until " + r.StartsAt.UTC().Format("2006-01-02 15:04 UTC") + "."
	}
	return d
}
