package rollout

import (
	"strings"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
)

// Rollout is a move of an endpoint from one version to another by a plan.
type Rollout struct {
	ID        string `json:"id" description:"R-NUMBER"`
	Project   string `json:"project"`
	Endpoint  string `json:"endpoint"`
	Incumbent string `json:"incumbent" description:"the version that it moves away from"`
	Candidate string `json:"candidate" description:"the version that it moves to"`
	Plan      Plan   `json:"plan"`
	Reason    string `json:"reason"`
	By        string `json:"by" description:"who started it"`
	// AskedAt is when it was started; StartsAt, if given, when it begins to move.
	AskedAt  time.Time  `json:"asked_at"`
	StartsAt *time.Time `json:"starts_at,omitempty" description:"it waits until then"`
	State
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// Phase is where a rollout stands.
type Phase string

const (
	// Waiting has not begun: for its time, its hours, a freeze, or what the candidate lacks.
	Waiting Phase = "waiting"
	// Warming sends a blue-green candidate sample requests, or copies.
	Warming Phase = "warming"
	// Copying sends a shadow copies.
	Copying Phase = "copying"
	// Stepping is on one of the steps of a canary.
	Stepping Phase = "stepping"
	// Comparing keeps a fixed share until it is decided which of both does better.
	Comparing Phase = "comparing"
	// Baking watches main, which the candidate took over, against what was before.
	Baking Phase = "baking"
	// Finished: the candidate answers main, or a shadow or a comparison has shown what it should.
	Finished Phase = "finished"
	// RolledBack: a guard, or the health of the candidate, gave main back to the incumbent.
	RolledBack Phase = "rolled_back"
	// Ended: a person ended it, and main went back to the incumbent.
	Ended Phase = "ended"
	// Refused: it never began, because something was lacking for too long.
	Refused Phase = "refused"
)

// Over reports whether nothing more happens.
func (p Phase) Over() bool {
	return p == Finished || p == RolledBack || p == Ended || p == Refused
}

// InWords is the phase as people say it.
func (p Phase) InWords() string {
	return strings.ReplaceAll(string(p), "_", " ")
}

// State is where a rollout stands. It is stored with every change, in the transaction that carries the change out.
type State struct {
	Phase Phase `json:"phase" enum:"waiting,warming,copying,comparing,stepping,baking,finished,rolled_back,ended,refused"`
	// Step is the position of the step of a canary, from 0.
	Step int `json:"step"`
	// Share is what the candidate has, in basis points; Split the split that gives it that, 0 before the
	// first.
	Share int `json:"share" description:"basis points that the candidate has now"`
	Split int `json:"split,omitempty"`
	// Copies are those of main's requests, in basis points: for the candidate, or, once that has taken over, for the
	// incumbent.
	Copies int `json:"copies,omitempty" description:"basis points of main's requests that the other version gets copies of"`
	// Since is when the phase or step began; while the candidate was unwell it stood still. Requests are
	// those of the candidate by then.
	Since    time.Time `json:"since"`
	Requests uint64    `json:"requests" description:"those that the candidate had answered when the step began"`
	// Held is set while a person or the service holds it where it is.
	Held *Held `json:"held,omitempty"`
	// Patient is since when it waits for what it waits for; after it was resumed, from then. Barred is since
	// when hours or a freeze keep it, which does not count.
	Patient time.Time  `json:"patient_since"`
	Barred  *time.Time `json:"barred_since,omitempty"`
	// Unwell is since when the candidate has no healthy address.
	Unwell *time.Time `json:"unwell_since,omitempty"`
	// Spent is the harm of the pair before: that of the trial, once the candidate has taken over.
	Spent float64 `json:"bad_answers_before"`
	// Waived is set when a person went on past the cap on harm.
	Waived bool `json:"cap_waived,omitempty"`
	// Evidence is the report of a shadow's copies, once it is over.
	Evidence string `json:"evidence,omitempty" description:"E-NUMBER of the report of its copies"`
	// Verdict is what a comparison said when it ended.
	Verdict *guard.Judgement `json:"decided,omitempty" description:"what a comparison said when it ended"`
	// Owed says why main is to go back to the incumbent as soon as that is healthy.
	Owed string `json:"owed,omitempty" description:"why main goes back as soon as the version before is healthy"`
}

// Held says who holds a rollout, and why.
type Held struct {
	By  string    `json:"by"`
	At  time.Time `json:"at"`
	Why string    `json:"why"`
	// Cap is set when the cap on harm holds it.
	Cap bool `json:"cap,omitempty"`
}

// Seen is what there is to see when a rollout is stepped.
type Seen struct {
	// Ready is false while what was stored of the pair is still to come.
	Ready bool
	// PairSince is when the pair that is watched now began; Candidate and Incumbent count what both did
	// since, or what the incumbent did before where the candidate has taken over.
	PairSince            time.Time
	Candidate, Incumbent sketch.Counts
	// Readings are what the guards say, Actions those that have just fired.
	Readings []guard.Reading
	Actions  []guard.Action
	// CandidateHealthy and IncumbentHealthy are healthy addresses.
	CandidateHealthy, IncumbentHealthy int
	// Lacking is what the candidate lacks to answer for the endpoint at all.
	Lacking []string
	// Frozen says why nothing may move now; empty when it may.
	Frozen string
	// Warmed is how many sample requests the candidate has answered, Cold why the last was not.
	Warmed int
	Cold   string
	// Split is the one in force.
	Split int
	// Verdict is what a comparison says so far; nil where nothing is compared.
	Verdict *guard.Judgement
}

// Decision is one line of the decision log: what was seen, what it means, what was done.
type Decision struct {
	Number int       `json:"number"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Seen   string    `json:"seen"`
	Means  string    `json:"means"`
	Did    string    `json:"did"`
	// Phase, Step and Share are those after it, Split the one that it put in force, 0 for none.
	Phase Phase `json:"phase" enum:"waiting,warming,copying,comparing,stepping,baking,finished,rolled_back,ended,refused"`
	Step  int   `json:"step"`
	Share int   `json:"share"`
	Split int   `json:"split,omitempty"`
	Held  bool  `json:"held,omitempty"`
	// Readings are what the guards said.
	Readings []guard.Reading `json:"readings"`
	// Signal is that of a guard that fired.
	Signal string `json:"signal,omitempty"`
	// Alarm is set when somebody must be told.
	Alarm bool `json:"alarm,omitempty"`
}

// Sentence is the decision in one line.
func (d *Decision) Sentence() string {
	out := d.Seen
	for _, part := range []string{d.Means, d.Did} {
		if part != "" && out != "" {
			out += " "
		}
		out += part
	}
	return out
}

// Unheard reports whether the candidate gets copies, and nobody its answers.
func (s *State) Unheard() bool { return s.Copies > 0 && s.Share == 0 }

// Terms are what the guards of the endpoint hold to: the plan's from the first share, or copy, that the candidate has
// on, and before that the endpoint's own.
func (r *Rollout) Terms(own guard.Terms) guard.Terms {
	if r == nil || (r.Share == 0 && r.Copies == 0) {
		return own
	}
	return r.Plan.Terms()
}

// Lanes are those of an endpoint while the candidate has a share; copies are for the one of both that answers nobody.
func (r *Rollout) Lanes(share, copies int) []traffic.Lane {
	alone := func(main, other string, tolerance float64) []traffic.Lane {
		lanes := []traffic.Lane{{Kind: traffic.Main, Version: main, Share: traffic.Whole}}
		if copies > 0 {
			lanes = append(lanes, traffic.Lane{
				Kind: traffic.Shadow, Version: other, Share: copies, Tolerance: tolerance,
			})
		}
		return lanes
	}
	switch share {
	case 0:
		return alone(r.Incumbent, r.Candidate, r.Plan.Copies.Tolerance)
	case traffic.Whole:
		return alone(r.Candidate, r.Incumbent, r.Plan.Bake.Copies.Tolerance)
	}
	return []traffic.Lane{
		{Kind: traffic.Main, Version: r.Incumbent, Share: traffic.Whole - share},
		{Kind: traffic.Trial, Version: r.Candidate, Share: share},
	}
}

// Start is the state of a rollout that begins now, or waits for its time.
func Start(now time.Time) State { return State{Phase: Waiting, Since: now, Patient: now} }

// ids are how rollouts are known.
var ids = naming.Numbered{Prefix: "R-", What: "rollout"}

// ID writes the number of a rollout as people do.
func ID(number int64) string { return ids.ID(number) }

// ParseID reads R-7.
func ParseID(field, s string) (int64, error) { return ids.Parse(field, s) }
