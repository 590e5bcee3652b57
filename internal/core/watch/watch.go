package watch

import (
	"fmt"
	"math"
	"strings"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/span"
)

const (
	// Every is how long a look is: what a watch has seen is judged in spans of that length, which do not overlap.
	Every = 5 * time.Second
	// budget is the time in which all watches of an endpoint together raise one false alarm at most, on average.
	budget = 90 * 24 * time.Hour
	// looks is how often each of them is looked at in that time.
	looks = float64(budget / Every)
	// recent is for how long evidence is remembered that came to nothing, and how long ago a watch may have fired to
	// be called restless.
	recent = time.Hour
	// calm is how long all must be well before an alert is resolved; it doubles with each that was raised in the last
	// while, up to longestCalm.
	calm        = 2 * time.Minute
	longestCalm = time.Hour
	// little is so much of the evidence that fires as comes and goes.
	little = 0.1
	// least is how many independent requests or rows are needed to say anything in an hour.
	least = 20
)

// State is where a watch stands.
type State string

// The states of a watch.
const (
	Quiet     State = "quiet"
	Pending   State = "pending"
	Firing    State = "firing"
	NotEnough State = "not enough to tell"
)

// Enum lists the states for the document of the API.
func (State) Enum() []any { return []any{Quiet, Pending, Firing, NotEnough} }

// Allowed says which rate of a signal is nothing to tell of: Limit, or Times what is usual if that is more.
type Allowed struct {
	Limit float64 `json:"limit" description:"a share of 1"`
	Times float64 `json:"times" description:"times what is usual, where that is more"`
}

// usually are what is allowed where nobody has said otherwise, by signal without column.
var usually = map[string]Allowed{
	ErrorRate:       {0.01, 2},
	RefusalRate:     {0.05, 2},
	SlowRate:        {0.05, 2},
	MissingRate:     {0.05, 2},
	OutOfRangeRate:  {0.05, 2},
	FeatureDrift:    {Limit: drift.Allowed},
	PredictionDrift: {Limit: drift.Allowed},
}

// The signals that are watched. Those of columns have the column's name behind a dot.
const (
	ErrorRate       = "error_rate"
	RefusalRate     = "refusal_rate"
	SlowRate        = "slow_rate"
	MissingRate     = "missing_rate"
	OutOfRangeRate  = "out_of_range_rate"
	FeatureDrift    = "feature_drift"
	PredictionDrift = "prediction_drift"
	RequestRate     = "request_rate"
)

// Name is that of a signal of a column.
func Name(signal, column string) string {
	if column == "" {
		return signal
	}
	return signal + "." + column
}

// Parts takes the name of a signal apart.
func Parts(name string) (signal, column string) {
	signal, column, _ = strings.Cut(name, ".")
	return signal, column
}

// Of is what is allowed of a signal.
func Of(name string) Allowed {
	signal, _ := Parts(name)
	return usually[signal]
}

// Look is what was seen of one signal in one span: so many requests or rows, and how many of them were bad; or, of a
// distribution, an e-value that was worked out from it.
type Look struct {
	Signal string
	// Seen tell as much as so many independent ones; Bad of them were bad.
	Seen, Bad float64
	// Raw is the share of all that were bad, independent or not: what has fired is not well while they come again.
	Raw float64
	// Usual is the rate of the past, 0 where it is not known.
	Usual float64
	// Evidence is the e-value of a distribution in this span, as a logarithm; Effect is how far it is from the
	// reference, and Judged whether both were worked out.
	Judged   bool
	Evidence float64
	Effect   float64
	// Means says how the means differ.
	Means string
	// Why says why nothing can be told.
	Why string
}

// Stand is where the watch over one signal stands.
type Stand struct {
	Signal string    `json:"signal"`
	State  State     `json:"state"`
	Since  time.Time `json:"since" description:"since when it is in that state"`
	// Rate and Allowed are those of the last looks together: shares, or PSI of a distribution.
	Rate     float64 `json:"rate" description:"a share of 1; of a distribution, its PSI"`
	Allowed  float64 `json:"allowed"`
	Seen     float64 `json:"seen" description:"so many independent requests or rows since it began"`
	Bad      float64 `json:"bad"`
	Progress float64 `json:"progress" description:"how much there is of the evidence that fires; 1 is all"`
	Sentence string  `json:"sentence"`
	// Began is when the evidence began to grow.
	Began time.Time `json:"began"`
	// Against are, for each bet, the logarithm of 1 and the sum of Shiryaev and Roberts; a distribution has one.
	Against []float64 `json:"against" description:"what speaks against it, as logarithms"`
	// First is when it was looked at first, Looked how often since.
	First  time.Time `json:"first"`
	Looked uint64    `json:"looked"`
	// Told is when it could be told last how it is.
	Told time.Time `json:"told"`
	// Fired are when it fired in the last while, Well since when nothing is wrong any more.
	Fired []time.Time `json:"fired,omitempty"`
	Well  time.Time   `json:"well"`
}

// Turn is what a step has changed.
type Turn int

// The turns.
const (
	Stays Turn = iota
	Fires
	Resolves
)

// bets are the rates that are bet on, between what is allowed and 1.
var bets = [...]float64{0.01, 0.03, 0.08, 0.2, 0.5, 0.95}

// evidence are the logarithms of e-values for the hypothesis that at most a share p of independent requests is bad:
// how much more likely some larger rates make what was seen. Each has an expectation of at most one whatever
// smaller rate is true, and so has its power where several requests count as one.
func evidence(seen, bad, p float64) []float64 {
	p = min(max(p, 1e-6), 0.999)
	out := make([]float64, len(bets))
	for i, b := range bets {
		q := min(p+b*(1-p), 0.9995)
		out[i] = bad*math.Log(q/p) + (seen-bad)*math.Log((1-q)/(1-p))
	}
	return out
}

// add adds e-values to what there is, each to its own sum, and gives the logarithm of 1 and the mean of the sums.
func (s *Stand) add(e []float64) float64 {
	sums := make([]float64, len(e)) // those before belong to the standing before
	copy(sums, s.Against)
	mean := 0.0
	for i := range e {
		sums[i] = math.Log1p(math.Exp(min(sums[i]+e[i], 500)))
		mean += math.Expm1(sums[i]) / float64(len(e))
	}
	s.Against = sums
	return math.Log1p(mean)
}

// Step takes a look at one signal. signals is how many the endpoint has, among which the budget is shared: each
// begins anew with every look (Shiryaev and Roberts; Shin, Ramdas and Rinaldo 2024), so that with M ← (1+M)·e the
// mean number of looks until M reaches a bound is at least that bound where nothing is wrong.
func Step(s Stand, l Look, signals int, now time.Time) (Stand, Turn) {
	if s.Signal == "" {
		s = Stand{Signal: l.Signal, State: NotEnough, Since: now}
	}
	bound := math.Log(s.looks(l, now) * float64(max(1, signals)))
	allowed := Of(l.Signal)
	drifts := strings.HasSuffix(strings.SplitN(l.Signal, ".", 2)[0], "_drift")
	p := max(allowed.Limit, allowed.Times*l.Usual)
	before := s.Progress
	switch {
	case drifts && l.Judged:
		s.Progress = s.add([]float64{l.Evidence}) / bound
	case !drifts && l.Seen > 0:
		s.Progress = s.add(evidence(l.Seen, l.Bad, p)) / bound
	}
	s.Allowed = p
	s.Fired = within(s.Fired, now)
	wrong := l.Bad > p*l.Seen+2*math.Sqrt(p*l.Seen)+1 // more than chance makes of what is allowed
	if drifts {
		wrong = l.Judged && l.Effect > allowed.Limit
	}
	wrong = wrong || s.State == Firing && l.Raw > p
	// What is told is what was seen since the evidence began to grow.
	s.count(l, drifts, wrong && before < little && s.State != Firing, now)
	return s.turn(l, wrong, now)
}

// looks is how often the signal is looked at in the time of the budget. A distribution waits for as many rows as it
// takes, so that is less often where there is less traffic.
func (s *Stand) looks(l Look, now time.Time) float64 {
	if !l.Judged {
		return looks
	}
	if s.First.IsZero() {
		s.First = now
	}
	s.Looked++
	every := now.Sub(s.First) / time.Duration(max(1, s.Looked-1))
	return float64(budget / max(Every, every))
}

// count adds a look to what is told of the signal.
func (s *Stand) count(l Look, drifts, begins bool, now time.Time) {
	if begins || s.Began.IsZero() || s.State != Firing && s.Progress < little && now.Sub(s.Began) > recent {
		s.Began, s.Seen, s.Bad = now.Add(-Every), 0, 0
	}
	s.Seen, s.Bad = s.Seen+l.Seen, s.Bad+l.Bad
	switch {
	case drifts && l.Judged:
		s.Rate = l.Effect
	case !drifts && s.Seen > 0:
		s.Rate = s.Bad / s.Seen
	}
}

func within(all []time.Time, now time.Time) (out []time.Time) {
	for _, t := range all {
		if now.Sub(t) < recent {
			out = append(out, t)
		}
	}
	return out
}

func (s Stand) turn(l Look, wrong bool, now time.Time) (Stand, Turn) {
	switch {
	case wrong:
		s.Well = time.Time{}
	case s.Well.IsZero() && l.Why == "" && (l.Seen > 0 || l.Judged):
		s.Well = now
	}
	if s.Told.IsZero() || l.Why == "" || wrong {
		s.Told = now
	}
	turn := Stays
	before := s.State
	switch {
	case s.State == Firing:
		patience := min(calm<<max(0, len(s.Fired)-1), longestCalm)
		if !s.Well.IsZero() && now.Sub(s.Well) >= patience || now.Sub(s.Told) >= recent {
			s.State, s.Against, s.Progress, turn = Quiet, nil, 0, Resolves
			s.Began, s.Seen, s.Bad = now, 0, 0
		}
	case s.Progress >= 1:
		s.State, turn = Firing, Fires
		s.Fired = append(s.Fired, now)
	case l.Why != "" || s.Seen < least && s.Progress < little:
		s.State = NotEnough
	case s.Progress >= 1.0/3:
		s.State = Pending
	default:
		s.State = Quiet
	}
	if s.State != before {
		s.Since = now
	}
	s.Sentence = s.says(l, now)
	return s, turn
}

// says is where the watch stands in words.
func (s Stand) says(l Look, now time.Time) string {
	signal, column := Parts(s.Signal)
	if l.Why != "" && s.State == NotEnough {
		return l.Why
	}
	if signal == FeatureDrift || signal == PredictionDrift {
		if !l.Judged {
			return s.Sentence // it is judged when enough has come
		}
		how := "is like its reference"
		if s.Rate > s.Allowed {
			how = "has moved from its reference" + l.Means
		}
		return fmt.Sprintf("%s %s: PSI %.2f less what chance makes, %.2f is allowed.", column, how, max(0, s.Rate),
			s.Allowed)
	}
	what := map[string]string{
		ErrorRate: "of %.0f requests failed", RefusalRate: "of %.0f requests were turned away",
		SlowRate:       "of %.0f requests took twice as long as nearly all did before",
		MissingRate:    "of %.0f rows have no " + column,
		OutOfRangeRate: "of %.0f rows have " + column + " outside of the range of its reference",
	}[signal]
	return fmt.Sprintf("%.1f %% "+what+" in %s; %.1f %% are allowed.", s.Rate*100, s.Seen,
		span.Rounded(max(Every, now.Sub(s.Began))), s.Allowed*100)
}
