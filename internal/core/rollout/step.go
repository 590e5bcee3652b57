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

// Itself is who decides what nobody asked for.
const Itself = "inner-ladder"

// aWhile is how long a version that took over may have no healthy address before main goes back: callers
// get no answer meanwhile.
const aWhile = 2 * time.Second

// mover is a rollout with what is seen of it.
type mover struct {
	*Rollout
	seen Seen
	now  time.Time
	next State
}

// Step looks at a rollout and says where it stands from now on. A decision comes with every change that people
// must know of; its share says what the split must be. A state that differs without one must be kept too.
func Step(r Rollout, seen Seen, now time.Time) (State, *Decision) {
	m := &mover{&r, seen, now, r.State}
	if r.Phase.Over() {
		return r.State, nil
	}
	if r.Split > 0 && seen.Split != r.Split {
		m.next.Held = nil
		return m.overtaken(fmt.Sprintf("Another split is in force, #%d, not #%d.", seen.Split, r.Split),
			"It looks after nothing any more.")
	}
	if d := m.goBack(); d != nil {
		return m.next, d
	}
	m.look()
	if d := m.capped(); d != nil {
		return m.next, d
	}
	if r.Held != nil {
		return m.next, nil
	}
	if waits := m.waits(); len(waits) > 0 {
		d := m.wait(waits)
		return m.next, d
	}
	return m.advance(Itself, "")
}

// goBack gives main back to the incumbent when it must, holds or tells when a guard says so.
func (m *mover) goBack() *Decision {
	if m.Owed != "" && m.seen.IncumbentHealthy > 0 {
		_, d := m.end(RolledBack, 0, m.Owed, m.Incumbent+" is healthy again.",
			fmt.Sprintf("%s answers for %s again.", m.Incumbent, m.Endpoint))
		d.Alarm = true
		return d
	}
	var worst *guard.Action
	for i, a := range m.seen.Actions {
		if worst == nil || slices.Index(guard.Responses, a.Then) > slices.Index(guard.Responses, worst.Then) {
			worst = &m.seen.Actions[i]
		}
	}
	unwell := m.Unwell != nil && m.Phase == Baking && m.seen.CandidateHealthy == 0 &&
		m.now.Sub(*m.Unwell) >= aWhile && m.Owed == ""
	if worst == nil && unwell {
		worst = &guard.Action{
			Signal: "placement_health", Then: guard.RollBack,
			Sentence: fmt.Sprintf("%s has had no healthy address for %s.", m.Candidate,
				span.Rounded(m.now.Sub(*m.Unwell))),
		}
	}
	if worst == nil {
		return nil
	}
	var d *Decision
	switch {
	case worst.Then == guard.Notify:
		d = m.decide(Itself, worst.Sentence, "The guard on "+worst.Signal+" only tells of it.", "Nothing was changed.")
	case worst.Then == guard.Hold && m.Held != nil:
		d = m.decide(Itself, worst.Sentence, "", "It is held already.")
	case worst.Then == guard.Hold:
		d = m.hold(Itself, worst.Sentence, "The guard on "+worst.Signal+" holds the rollout.", false)
	case m.Unheard():
		_, d = m.end(Ended, 0, worst.Sentence, "That is more than the plan allows.",
			fmt.Sprintf("%s gets no more copies; nobody got an answer of its.", m.Candidate))
	case m.Phase == Baking && m.seen.IncumbentHealthy == 0:
		m.next.Owed = worst.Sentence
		d = m.hold(Itself, worst.Sentence, fmt.Sprintf("Main must go back to %s, and that has no healthy address.",
			m.Incumbent), false)
		d.Did = fmt.Sprintf("It goes back as soon as %s is healthy.", m.Incumbent)
	default:
		_, d = m.end(RolledBack, 0, worst.Sentence, "That is more than the plan allows.",
			fmt.Sprintf("%s answers all of %s again.", m.Incumbent, m.Endpoint))
	}
	d.Signal, d.Alarm = worst.Signal, true
	return d
}

// look takes note of whether the candidate is well, and of whether anything may move: while it is not, the
// step's time stands still, and while nothing may, its patience.
func (m *mover) look() {
	switch {
	case m.Phase == Waiting:
	case m.seen.CandidateHealthy == 0 && m.Unwell == nil:
		m.next.Unwell = &m.now
	case m.seen.CandidateHealthy > 0 && m.Unwell != nil:
		m.next.Since = m.Since.Add(m.now.Sub(*m.Unwell))
		m.next.Unwell = nil
	}
	barred := m.Phase != Baking && len(m.barred()) > 0
	switch {
	case barred && m.Barred == nil:
		m.next.Barred = &m.now
	case !barred && m.Barred != nil:
		m.next.Patient = m.Patient.Add(m.now.Sub(*m.Barred))
		m.next.Barred = nil
	}
}

// Harm is how many requests have failed so far that the incumbent, at its rate, would not have failed. Nobody got the
// answers to copies.
func (r *Rollout) Harm(seen Seen) float64 {
	if r.Unheard() {
		return r.Spent
	}
	rate := 0.0
	if n := seen.Incumbent.Requests; n > 0 {
		rate = float64(seen.Incumbent.Failed()) / float64(n)
	}
	return r.Spent + math.Max(0, float64(seen.Candidate.Failed())-rate*float64(seen.Candidate.Requests))
}

// capped holds a rollout that has done as much harm as it may, whatever the tests say.
func (m *mover) capped() *Decision {
	harm := m.Harm(m.seen)
	if m.Plan.Harm.BadAnswers == 0 || m.Waived || m.Held != nil || !m.seen.Ready || harm <= m.Plan.Harm.BadAnswers {
		return nil
	}
	means := fmt.Sprintf("That is %.0f bad answers more than %s would have given; the plan allows %v.", harm,
		m.Incumbent, m.Plan.Harm.BadAnswers)
	d := m.hold(Itself, m.counts(), means, true)
	d.Alarm = true
	return d
}

// hold holds the rollout where it is.
func (m *mover) hold(by, seen, means string, capped bool) *Decision {
	m.next.Held = &Held{by, m.now, strings.TrimSpace(seen + " " + means), capped}
	return m.decide(by, seen, means, m.stays())
}

// stays says where a rollout stays that is held.
func (m *mover) stays() string {
	if m.Unheard() {
		return fmt.Sprintf("It is held: %s goes on getting copies of %s.", m.Candidate, traffic.Percent(m.Copies))
	}
	return fmt.Sprintf("It is held: %s stays at %s.", m.Candidate, traffic.Percent(m.Share))
}

// wait stays where it is, and holds when it has waited longer than the plan is patient.
func (m *mover) wait(waits []Wait) *Decision {
	for _, w := range waits {
		if w.planned {
			return nil // that passes by itself
		}
	}
	if m.now.Sub(m.next.Patient) < m.patience() {
		return nil
	}
	means := fmt.Sprintf("After %s it still waits for %s.", m.Plan.Patience, inWords(waits))
	if m.Phase == Waiting {
		_, d := m.end(Refused, 0, "", means, "It is given up before it began.")
		d.Alarm = true
		return d
	}
	d := m.hold(Itself, m.counts(), means, false)
	d.Alarm = true
	return d
}

// patience is how long a rollout waits where it stands: what the plan says, on top of the time that the plan
// itself wants to pass there.
func (m *mover) patience() time.Duration {
	d := time.Duration(m.Plan.Patience)
	switch {
	case m.Phase == Waiting && m.StartsAt != nil:
		d += max(0, m.StartsAt.Sub(m.next.Patient))
	case m.Phase == Stepping:
		d += time.Duration(m.Plan.Steps[min(m.Step, len(m.Plan.Steps)-1)].Time)
	case m.Phase == Copying:
		d += time.Duration(m.Plan.Copies.Time)
	case m.Phase == Comparing:
		d += time.Duration(m.Plan.Compare.Most)
	case m.Phase == Baking:
		d += time.Duration(m.Plan.Bake.Time)
	}
	return d
}

// advance goes one step further.
func (m *mover) advance(by, why string) (State, *Decision) {
	seen, means := m.counts(), m.good()
	if why != "" {
		means = why
	}
	n := &m.next
	switch m.Phase {
	case Waiting:
		seen = fmt.Sprintf("%s has what it needs to answer for %s.", m.Candidate, m.Endpoint)
		if m.Plan.Kind == Shadow {
			n.Phase, n.Copies = Copying, m.Plan.Copies.Share
			m.begin()
			n.Requests = 0
			return *n, m.decide(by, fmt.Sprintf("%s has what it needs to get copies.", m.Candidate), why,
				fmt.Sprintf("It gets copies of %s of what %s answers, and answers nobody.",
					traffic.Percent(n.Copies), m.Incumbent))
		}
		if m.Plan.Kind == BlueGreen {
			n.Phase, n.Copies = Warming, m.Plan.Copies.Share
			m.begin()
			n.Requests = 0
			return *n, m.decide(by, seen, why,
				fmt.Sprintf("It is warmed with %d %s before it takes over.", m.Plan.Warm, m.warmedWith()))
		}
		if m.Plan.Kind == Comparison {
			n.Phase, n.Share = Comparing, m.Plan.Compare.Share
			m.begin()
			n.Requests = 0
			return *n, m.decide(by, seen, why, fmt.Sprintf("It gets %s until %s is decided, for %s at most.",
				traffic.Percent(n.Share), m.Plan.Compare.Signal, m.Plan.Compare.Most))
		}
		n.Phase, n.Step, n.Share = Stepping, 0, m.Plan.Steps[0].Share
		m.begin()
		n.Requests = 0 // the trial begins with it
		return *n, m.decide(by, seen, why, fmt.Sprintf("It begins with %s.", traffic.Percent(n.Share)))
	case Stepping:
		if m.Step+1 < len(m.Plan.Steps) {
			n.Step, n.Share = m.Step+1, m.Plan.Steps[m.Step+1].Share
			m.begin()
			return *n, m.decide(by, seen, means, fmt.Sprintf("Its share grows from %s to %s.",
				traffic.Percent(m.Share), traffic.Percent(n.Share)))
		}
		return *n, m.takeOver(by, seen, means)
	case Comparing:
		return m.decided(by, why)
	case Copying:
		next, d := m.end(Finished, 0, seen, means, fmt.Sprintf("%s gets no more copies.", m.Candidate))
		d.By = by
		return next, d
	case Warming:
		seen = fmt.Sprintf("%s has answered %d %s.", m.Candidate, m.warmed(), m.warmedWith())
		return *n, m.takeOver(by, seen, why)
	}
	return m.end(Finished, traffic.Whole, seen, means, fmt.Sprintf("%s stays; %s may be taken away.", m.Candidate,
		m.Incumbent))
}

// takeOver gives main to the candidate.
func (m *mover) takeOver(by, seen, means string) *Decision {
	n := &m.next
	n.Spent = m.Harm(m.seen)
	n.Phase, n.Share, n.Copies = Baking, traffic.Whole, m.Plan.Bake.Copies.Share
	m.begin()
	n.Requests = 0 // what it does from now on is counted anew
	stays := "stays warm"
	if n.Copies > 0 {
		stays = "gets copies of " + traffic.Percent(n.Copies)
	}
	return m.decide(by, seen, means, fmt.Sprintf("It takes over; %s %s while main is watched.", m.Incumbent, stays))
}

// decided ends a comparison with what it says.
func (m *mover) decided(by, why string) (State, *Decision) {
	decision, seen := guard.Undecided, m.counts()
	if v := m.seen.Verdict; v != nil {
		decision, seen = v.Decision, v.Sentence
	}
	means := map[guard.Decision]string{
		guard.Better:       m.Candidate + " does better.",
		guard.Worse:        m.Candidate + " does worse.",
		guard.NoDifference: "Both do as well as each other, within what matters.",
		guard.Undecided:    "It is not decided which of both does better.",
	}[decision]
	if why != "" {
		means = strings.TrimSpace(why + " " + means)
	}
	_, d := m.end(Finished, 0, seen, means, fmt.Sprintf("%s answers all of %s again.", m.Incumbent, m.Endpoint))
	m.next.Verdict, d.By = m.seen.Verdict, by
	return m.next, d
}

// warmed is how many requests a candidate has answered that is warmed: samples, or copies.
func (m *mover) warmed() int {
	if m.Unheard() {
		c := m.seen.Candidate
		return int(c.Requests - min(c.Failed(), c.Requests))
	}
	return m.seen.Warmed
}

func (m *mover) warmedWith() string {
	if m.Plan.Copies.Share > 0 {
		return "copies"
	}
	return "sample requests"
}

// begin begins a phase or step.
func (m *mover) begin() {
	n := &m.next
	n.Since, n.Patient, n.Requests, n.Unwell, n.Barred = m.now, m.now, m.seen.Candidate.Requests, nil, nil
}

// overtaken ends the rollout because another split than its own is in force, which stays.
func (m *mover) overtaken(means, did string) (State, *Decision) {
	_, d := m.end(Ended, m.Share, "", means, did)
	m.next.Copies = m.Copies
	return m.next, d
}

// end ends the rollout with a share for the candidate, which gets no more copies.
func (m *mover) end(phase Phase, share int, seen, means, did string) (State, *Decision) {
	n := &m.next
	n.Phase, n.Share, n.Copies, n.Since, n.Held = phase, share, 0, m.now, nil
	n.Owed, n.Unwell, n.Barred = "", nil, nil
	return *n, m.decide(Itself, seen, means, did)
}

// decide writes a line of the log about the next state.
func (m *mover) decide(by, seen, means, did string) *Decision {
	readings := m.seen.Readings
	if readings == nil {
		readings = []guard.Reading{}
	}
	return &Decision{
		At: m.now, By: by, Seen: seen, Means: means, Did: did, Phase: m.next.Phase, Step: m.next.Step,
		Share: m.next.Share, Held: m.next.Held != nil, Readings: readings,
	}
}

// counts says what both versions did.
func (m *mover) counts() string {
	c, i := m.seen.Candidate, m.seen.Incumbent
	rate := func(failed, n uint64) string {
		if n == 0 {
			return "none"
		}
		return fmt.Sprintf("%.2f %%", 100*float64(failed)/float64(n))
	}
	before := ""
	if m.Phase == Baking {
		before = " before"
	}
	what := "requests"
	if m.Unheard() {
		what = "copies"
	}
	return fmt.Sprintf("%s answered %d %s in %s and failed %d of them (%s); %s failed %s%s.", m.Candidate,
		c.Requests, what, span.Rounded(m.now.Sub(m.seen.PairSince).Round(time.Second)), c.Failed(),
		rate(c.Failed(), c.Requests), m.Incumbent, rate(i.Failed(), i.Requests), before)
}

// good says which signals are shown good.
func (m *mover) good() string {
	var shown []string
	for _, r := range m.seen.Readings {
		if r.Enough >= 1 {
			shown = append(shown, r.Signal)
		}
	}
	switch {
	case m.Phase == Baking:
		return "Nothing speaks against it."
	case len(shown) == 0:
		return "The plan asks for no signal to be shown good."
	case len(shown) == 1:
		return shown[0] + " is shown good."
	}
	return strings.Join(shown[:len(shown)-1], ", ") + " and " + shown[len(shown)-1] + " are shown good."
}
