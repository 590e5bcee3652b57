package rollout

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
)

// Wait is one thing that a rollout waits for.
type Wait struct {
	// For says what it is.
	For string `json:"for"`
	// Done is how far it has come, from 0 to 1.
	Done float64 `json:"done" minimum:"0" maximum:"1"`
	// Signal is the one that must be shown good; empty for other things.
	Signal string `json:"signal,omitempty"`
	// Left is about how long it still takes; absent where that cannot be told.
	Left *span.Duration `json:"left,omitempty" description:"about how long it still takes"`
	// planned is set for time that passes by itself, which does not try the plan's patience.
	planned bool
}

// inWords lists what is waited for.
func inWords(waits []Wait) string {
	out := make([]string, len(waits))
	for i, w := range waits {
		out[i] = w.For
	}
	return strings.Join(out, "; ")
}

// waits lists what the next step still waits for; none when it may be taken.
func (m *mover) waits() (out []Wait) {
	if !m.seen.Ready && m.Phase != Waiting {
		return []Wait{{For: "what was measured before to be read"}}
	}
	if m.Phase == Waiting {
		return m.waitsToBegin()
	}
	if m.seen.CandidateHealthy == 0 {
		out = append(out, Wait{For: m.Candidate + " to have a healthy address"})
	}
	switch m.Phase {
	case Warming:
		if warmed := m.warmed(); warmed < m.Plan.Warm {
			w := Wait{
				For: fmt.Sprintf("%d more of %d %s to be answered", m.Plan.Warm-warmed, m.Plan.Warm,
					m.warmedWith()),
				Done: float64(warmed) / float64(m.Plan.Warm),
			}
			if m.seen.Cold != "" {
				w.For += " (" + m.seen.Cold + ")"
			}
			out = append(out, w)
		}
	case Stepping:
		s := m.Plan.Steps[min(m.Step, len(m.Plan.Steps)-1)]
		out = append(out, m.least(time.Duration(s.Time), s.Requests)...)
		out = append(out, m.unproven(m.mustBeGood(s))...)
	case Comparing:
		out = append(out, m.least(time.Duration(m.Plan.Compare.Time), 0)...)
		return append(out, m.undecided()...)
	case Copying:
		s := m.Plan.Copies.step()
		out = append(out, m.least(time.Duration(s.Time), s.Requests)...)
		return append(out, m.unproven(m.Plan.good(s))...)
	case Baking:
		return append(out, m.least(time.Duration(m.Plan.Bake.Time), m.Plan.Bake.Requests)...)
	}
	return append(out, m.barred()...)
}

// waitsToBegin lists what keeps a rollout from beginning.
func (m *mover) waitsToBegin() (out []Wait) {
	if m.StartsAt != nil && m.now.Before(*m.StartsAt) {
		left := span.Duration(m.StartsAt.Sub(m.now).Round(time.Second))
		return []Wait{{
			For: "its time, " + m.StartsAt.UTC().Format("2006-01-02 15:04 UTC"), Left: &left, planned: true,
		}}
	}
	for _, l := range m.seen.Lacking {
		out = append(out, Wait{For: l})
	}
	return append(out, m.barred()...)
}

// barred lists what keeps traffic from being moved now.
func (m *mover) barred() (out []Wait) {
	if m.seen.Frozen != "" {
		out = append(out, Wait{For: "the end of a change freeze: " + m.seen.Frozen, planned: true})
	}
	if !m.Plan.Open(m.now) {
		out = append(out, Wait{For: "the hours of its plan: " + m.Plan.hoursInWords(), planned: true})
	}
	return out
}

// least lists what is missing of a least time and of least requests.
func (m *mover) least(atLeast time.Duration, requests uint64) (out []Wait) {
	passed := m.now.Sub(m.next.Since)
	if passed < atLeast {
		left := span.Duration((atLeast - passed).Round(time.Second))
		out = append(out, Wait{
			For: fmt.Sprintf("%s of %s to pass", span.Rounded((atLeast - passed).Round(time.Second)),
				span.Duration(atLeast)),
			Done: math.Max(0, float64(passed)/float64(atLeast)), Left: &left, planned: m.next.Unwell == nil,
		})
	}
	if answered := m.answered(); answered < requests {
		w := Wait{
			For:  fmt.Sprintf("%d more of %d requests", requests-answered, requests),
			Done: float64(answered) / float64(requests),
		}
		w.Left = left(w.Done, passed)
		out = append(out, w)
	}
	return out
}

// answered are the candidate's requests since the step began.
func (m *mover) answered() uint64 {
	return m.seen.Candidate.Requests - min(m.Requests, m.seen.Candidate.Requests)
}

// mustBeGood are the signals that must be shown good before a step is left: past the cap on the share, all that can
// stop the rollout.
func (m *mover) mustBeGood(s PlanStep) []string {
	if cap := m.Plan.Harm.Share; cap > 0 && m.nextShare() > cap {
		return m.Plan.stopping()
	}
	return m.Plan.good(s)
}

// unproven lists those of some signals that must still be shown good.
func (m *mover) unproven(good []string) (out []Wait) {
	for _, r := range m.seen.Readings {
		if slices.Contains(good, r.Signal) && r.Enough < 1 {
			out = append(out, Wait{
				For: r.Signal + " to be shown good", Done: r.Enough, Signal: r.Signal,
				Left: left(r.Enough, m.now.Sub(m.seen.PairSince)),
			})
		}
	}
	for _, signal := range good {
		if !slices.ContainsFunc(m.seen.Readings, func(r guard.Reading) bool { return r.Signal == signal }) {
			out = append(out, Wait{For: signal + " to be shown good", Signal: signal})
		}
	}
	return out
}

// undecided says that a comparison is not decided, until it has lasted as long as it may.
func (m *mover) undecided() []Wait {
	most := time.Duration(m.Plan.Compare.Most)
	passed := m.now.Sub(m.next.Since)
	if m.seen.Verdict.Decided() || passed >= most {
		return nil
	}
	left := span.Duration((most - passed).Round(time.Second))
	w := Wait{
		For: fmt.Sprintf("%s to be decided, %s at most", m.Plan.Compare.Signal,
			span.Rounded((most - passed).Round(time.Second))),
		Left: &left, planned: m.next.Unwell == nil,
	}
	if v := m.seen.Verdict; v != nil { // the width of an interval goes down with the root of the requests
		w.Done = math.Pow(math.Min(1, 2*m.Plan.Compare.Margin/(v.High-v.Low)), 2)
	}
	return []Wait{w}
}

// nextShare is that of the next step.
func (m *mover) nextShare() int {
	if m.Step+1 < len(m.Plan.Steps) {
		return m.Plan.Steps[m.Step+1].Share
	}
	return traffic.Whole
}

// leastDone is how far something must have come before it is told how long the rest takes.
const leastDone = 0.02

// left is about how long the rest takes of what has come so far in a time.
func left(done float64, took time.Duration) *span.Duration {
	if done < leastDone || took <= 0 {
		return nil
	}
	rest := time.Duration(float64(took) * (1 - done) / done)
	d := span.Duration(rest.Round(time.Second))
	return &d
}

// Standing is what a rollout looks like now.
type Standing struct {
	// Waits are what its next step waits for.
	Waits []Wait `json:"waits"`
	// Next says what the next step is.
	Next string `json:"next"`
	// BadAnswers are those so far beyond what the incumbent would have given, Allowed what the plan
	// allows; 0 is no cap.
	BadAnswers float64 `json:"bad_answers" description:"requests failed beyond main's rate"`
	Allowed    float64 `json:"bad_answers_allowed" description:"0 is no cap"`
	// Answered are the candidate's requests since the step began.
	Answered uint64 `json:"answered" description:"requests of the candidate since the step began"`
	// Left is about how long the step still takes; absent where that cannot be told.
	Left *span.Duration `json:"left,omitempty" description:"about how long the step still takes"`
}

// Look says what a rollout looks like now.
func Look(r Rollout, seen Seen, now time.Time) Standing {
	m := &mover{&r, seen, now, r.State}
	out := Standing{
		Waits: []Wait{}, BadAnswers: r.Harm(seen), Allowed: r.Plan.Harm.BadAnswers,
		Answered: m.answered(),
	}
	if r.Phase.Over() {
		return out
	}
	m.look()
	if r.Held == nil {
		out.Waits = append(out.Waits, m.waits()...)
	} else {
		out.Waits = append(out.Waits, Wait{For: "somebody to resume, speed on or end it: " + r.Held.Why})
	}
	known := true
	for _, w := range out.Waits {
		if w.Left == nil {
			known = false
		} else if out.Left == nil || *w.Left > *out.Left {
			out.Left = w.Left
		}
	}
	if !known {
		out.Left = nil
	}
	out.Next = m.describeNext()
	return out
}

// describeNext says what the next step does.
func (m *mover) describeNext() string {
	switch {
	case m.Phase == Waiting && m.Plan.Kind == Shadow:
		return fmt.Sprintf("%s gets copies of %s", m.Candidate, traffic.Percent(m.Plan.Copies.Share))
	case m.Phase == Waiting && m.Plan.Kind == Comparison:
		return fmt.Sprintf("%s gets %s until %s is decided", m.Candidate, traffic.Percent(m.Plan.Compare.Share),
			m.Plan.Compare.Signal)
	case m.Phase == Comparing:
		return fmt.Sprintf("%s answers everything again, and people decide", m.Incumbent)
	case m.Phase == Copying:
		return fmt.Sprintf("the copies end, and what they showed is attached to %s", m.Candidate)
	case m.Phase == Waiting && m.Plan.Kind == BlueGreen:
		return fmt.Sprintf("%s is warmed with %d %s", m.Candidate, m.Plan.Warm, m.warmedWith())
	case m.Phase == Waiting:
		return fmt.Sprintf("%s gets %s", m.Candidate, traffic.Percent(m.Plan.Steps[0].Share))
	case m.Phase == Stepping && m.Step+1 < len(m.Plan.Steps):
		return fmt.Sprintf("%s gets %s", m.Candidate, traffic.Percent(m.nextShare()))
	case m.Phase == Baking:
		return fmt.Sprintf("the rollout is finished, and %s may be taken away", m.Incumbent)
	}
	return fmt.Sprintf("%s takes over", m.Candidate)
}
