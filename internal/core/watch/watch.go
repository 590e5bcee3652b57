package watch

import (
	"cmp"
	"fmt"
	"math"
	"strings"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/guard"
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
	// driftAllowed is the PSI that is nothing to tell of.
	driftAllowed = drift.Allowed
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

// The signals that are watched. Those of columns have the column's name behind a dot.
const (
	ErrorRate       = guard.ErrorRate
	RefusalRate     = "refusal_rate"
	SlowRate        = "slow_rate"
	MissingRate     = "missing_rate"
	OutOfRangeRate  = "out_of_range_rate"
	FeatureDrift    = "feature_drift"
	PredictionDrift = guard.PredictionDrift
	RequestRate     = "request_rate"
)

// Name is that of a signal of a column.
func Name(signal, column string) string {
	if column == "" {
		return signal
	}
	return signal + "." + column
}

// Parts takes the name of a watch apart.
func Parts(name string) (signal, column string) {
	if signal, column, of := strings.Cut(name, "."); of {
		return signal, column
	}
	return strings.TrimSuffix(name, versusMain), ""
}

// Look is what was seen of one signal in one span: so many requests or rows, and how many of them were bad; or, of a
// distribution, an e-value that was worked out from it.
type Look struct {
	// Signal is the name of the watch, Rule what it goes by.
	Signal string
	Rule   Rule
	// Seen tell as much as so many independent ones; Bad of them were bad, as What says.
	Seen, Bad float64
	What      string
	// Raw is the share of all that were bad, independent or not: what has fired is not well while they come again.
	Raw float64
	// Allowed is the share that is nothing to tell of, or the PSI of a distribution. More than Slack beyond it is more
	// than chance makes; 0 where that follows from the share.
	Allowed, Slack float64
	// Below is set where what is below the allowed is wrong: then Bad and Allowed have the other sign.
	Below bool
	// Bets are e-values as logarithms, where they do not follow from the share. A distribution has one, and none where
	// it could not be judged.
	Bets []float64
	// Effect is how far a distribution is from the reference, Means how their means differ in words.
	Effect float64
	Means  string
	// Of is what a distribution is held against.
	Of string
	// Why says why nothing can be told.
	Why string
}

// Stand is where the watch over one signal stands.
type Stand struct {
	// Signal is the name of the watch, Rule what it goes by in words.
	Signal string         `json:"signal"`
	Rule   string         `json:"rule"`
	Then   guard.Response `json:"then" description:"what follows when it fires"`
	About  string         `json:"about,omitempty"`
	State  State          `json:"state"`
	Since  time.Time      `json:"since" description:"since when it is in that state"`
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
	// Beyond is since when there is all of the evidence that fires.
	Beyond time.Time `json:"beyond"`
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
// mean number of looks until M reaches a bound is at least that bound where nothing is wrong. Another rule begins anew.
func Step(s Stand, l Look, signals int, now time.Time) (Stand, Turn) {
	if rule := l.Rule.String(); s.Signal == "" || s.Rule != rule {
		s = Stand{Signal: l.Signal, Rule: rule, State: NotEnough, Since: now}
	}
	s.Then, s.About = l.Rule.Response(), l.Rule.About
	bound := math.Log(s.looks(l, now) * float64(max(1, signals)))
	before := s.Progress
	switch {
	case l.Bets != nil:
		s.Progress = s.add(l.Bets) / bound
	case l.Seen > 0:
		s.Progress = s.add(evidence(l.Seen, l.Bad, l.Allowed)) / bound
	}
	s.Allowed = l.Allowed
	s.Fired = within(s.Fired, now)
	slack := cmp.Or(l.Slack, 2*math.Sqrt(l.Allowed*l.Seen)+1) // chance makes so much of what is allowed
	wrong := l.Bad > l.Allowed*l.Seen+slack || l.Effect > l.Allowed || s.State == Firing && l.Raw > l.Allowed
	// What is told is what was seen since the evidence began to grow.
	s.count(l, wrong && before < little && s.State != Firing, now)
	return s.turn(l, wrong, now)
}

// drifts reports whether a watch is over a distribution.
func drifts(name string) bool {
	signal, _ := Parts(name)
	return signal == FeatureDrift || signal == PredictionDrift
}

// judged reports whether a distribution was held against its reference.
func (l *Look) judged() bool { return drifts(l.Signal) && l.Bets != nil }

// looks is how often the signal is looked at in the time of the budget. A distribution waits for as many rows as it
// takes, so that is less often where there is less traffic.
func (s *Stand) looks(l Look, now time.Time) float64 {
	if !l.judged() {
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
func (s *Stand) count(l Look, begins bool, now time.Time) {
	if begins || s.Began.IsZero() || s.State != Firing && s.Progress < little && now.Sub(s.Began) > recent {
		s.Began, s.Seen, s.Bad = now.Add(-Every), 0, 0
	}
	s.Seen, s.Bad = s.Seen+l.Seen, s.Bad+l.Bad
	switch {
	case l.judged():
		s.Rate = l.Effect
	case !drifts(s.Signal) && s.Seen > 0:
		s.Rate = s.Bad / s.Seen
	}
	if l.Below && s.Seen > 0 {
		s.Rate, s.Allowed = -s.Rate, -s.Allowed
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
	case s.Well.IsZero() && l.Why == "" && l.Seen > 0:
		s.Well = now
	}
	if s.Told.IsZero() || l.Why == "" || wrong {
		s.Told = now
	}
	turn := Stays
	before := s.State
	switch {
	case s.Progress < 1:
		s.Beyond = time.Time{}
	case s.Beyond.IsZero():
		s.Beyond = now
	}
	enough := s.Seen >= float64(l.Rule.Least) && now.Sub(s.Beyond) >= time.Duration(l.Rule.For)
	switch {
	case s.State == Firing:
		patience := min(calm<<max(0, len(s.Fired)-1), longestCalm)
		if !s.Well.IsZero() && now.Sub(s.Well) >= patience || now.Sub(s.Told) >= recent {
			s.State, s.Against, s.Progress, turn = Quiet, nil, 0, Resolves
			s.Began, s.Seen, s.Bad = now, 0, 0
		}
	case s.Progress >= 1 && enough:
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
	_, column := Parts(s.Signal)
	if l.Why != "" && s.State == NotEnough {
		return l.Why
	}
	if drifts(s.Signal) {
		if !l.judged() {
			return s.Sentence // it is judged when enough has come
		}
		how := "is like " + l.Of
		if s.Rate > s.Allowed {
			how = "has moved from " + l.Of + l.Means
		}
		return fmt.Sprintf("%s %s: PSI %.2f less what chance makes, %.2f is allowed.", column, how, max(0, s.Rate),
			s.Allowed)
	}
	if l.What == "" {
		return s.Sentence // nothing came that could be judged
	}
	in := span.Rounded(max(Every, now.Sub(s.Began)))
	switch signal, _ := Parts(s.Signal); signal {
	case RequestRate:
		return fmt.Sprintf("%.0f of %.0f %s, in %s.", max(0, s.Bad), s.Seen, l.What, in)
	case Custom:
		return s.saysMean(l, in)
	case MAE:
		return fmt.Sprintf("%.0f predictions of %s were off by %.4g on average, as the truth says that came in %s; "+
			"%.4g is allowed.", s.Seen, l.What, s.Rate, in, s.Allowed)
	}
	return fmt.Sprintf("%s %% of %.0f %s in %s; %s %% are allowed.", share(s.Rate), s.Seen, l.What, in,
		share(s.Allowed))
}

// share writes a share of 1 in per cent, as precisely as it takes to tell a small one from none.
func share(x float64) string {
	if x > 0 && x < 0.001 {
		return fmt.Sprintf("%.2g", x*100)
	}
	return fmt.Sprintf("%.1f", x*100)
}
