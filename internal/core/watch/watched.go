package watch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
)

// Watched is where all watches of an endpoint stand.
type Watched struct {
	Stands map[string]Stand `json:"stands"`
	// Near counts, by column, the looks in which its distribution was near its reference at first. Only a reference
	// that the traffic resembled says anything about an hour of it: one of a whole year calls every hour moved.
	Near map[string]int `json:"near"`
}

// otherKind says why a distribution is not held against its reference.
const otherKind = "Its reference is not of traffic like this: it was far from it from the beginning, as an hour is " +
	"from a year. Hours of the week will serve when some weeks are known."

// trusted is in how many looks a distribution must be near its reference before it is held against that.
const trusted = 3

// Usual is what an endpoint did in the day before, as far as it is known.
type Usual struct {
	Errors, Refused float64
	// Slow is what 99 of 100 requests were quicker than, in nanoseconds; 0 where it is not known.
	Slow float64
	// Missing and Outside are shares by column; Reference are the columns that are held against, inputs and outputs.
	Missing, Outside map[string]float64
	// Quietest are the hours of the last week.
	Quietest        Quietest
	Inputs, Outputs map[string]*sketch.Column
}

// Seen is what an endpoint did since the last look.
type Seen struct {
	Counts  sketch.Counts
	Refused uint64
	// Silent is for how long nobody has called.
	Silent time.Duration
	// Slow are requests that took more than twice what is usual.
	Slow uint64
	// Content is what was read of bodies, Fresh how many rows of it had not come before, as far back as is known.
	Content sketch.Content
	Fresh   uint64
	// Long is what was read since a distribution was judged last, with how many rows of it were fresh; nil when it is
	// too little.
	Long      *sketch.Content
	LongFresh uint64
}

// Looks are what is looked at, by the name of the signal.
func (w *Watched) Looks(s *Seen, u *Usual) []Look {
	requests := float64(s.Counts.Requests - min(s.Counts.Requests, s.Counts.Repeated))
	failed := float64(s.Counts.Failed() - min(s.Counts.Failed(), s.Counts.Repeated))
	out := []Look{
		{Signal: ErrorRate, Seen: requests, Bad: failed, Usual: u.Errors},
		{
			Signal: RefusalRate, Seen: float64(s.Counts.Requests + s.Refused), Bad: float64(s.Refused),
			Usual: u.Refused,
		},
	}
	slow := Look{Signal: SlowRate, Seen: requests, Bad: float64(s.Slow), Usual: 0.01}
	if u.Slow == 0 {
		slow = Look{
			Signal: SlowRate,
			Why:    "How long requests usually take is not known yet: there were fewer than 1000.",
		}
	}
	out = append(out, slow)
	share := independent(s.Content.Rows, s.Fresh)
	for _, name := range w.columns(s) {
		c := s.Content.Inputs[name]
		if c == nil {
			c = &sketch.Column{}
		}
		// Rows that do not have the column at all lack it too, once it is known.
		absent := uint64(0)
		if _, known := w.Stands[Name(MissingRate, name)]; known && s.Content.Rows > c.Total() {
			absent = s.Content.Rows - c.Total()
		}
		missing := Look{
			Signal: Name(MissingRate, name), Seen: float64(c.Total()+absent) * share,
			Bad: float64(c.Missing+absent) * share, Usual: u.Missing[name],
			Raw: float64(c.Missing+absent) / float64(max(1, c.Total()+absent)),
		}
		outside := Look{
			Signal: Name(OutOfRangeRate, name), Seen: float64(c.Seen()) * share,
			Bad: float64(c.Outside()) * share, Usual: u.Outside[name],
			Raw: float64(c.Outside()) / float64(max(1, c.Seen())),
		}
		if share < 0.1 {
			missing.Why = "Not enough to tell: the same rows come again and again."
			outside.Why = missing.Why
		}
		out = append(out, missing, outside)
	}
	if s.Long != nil {
		out = append(out, w.distributions(FeatureDrift, s, s.Long.Inputs, u.Inputs)...)
		out = append(out, w.distributions(PredictionDrift, s, s.Long.Outputs, u.Outputs)...)
	}
	return out
}

// columns are the inputs that came, and those that came before.
func (w *Watched) columns(s *Seen) []string {
	all := map[string]bool{}
	for name := range s.Content.Inputs {
		all[name] = true
	}
	if s.Content.Rows > 0 {
		for name := range w.Stands {
			if signal, column := Parts(name); signal == MissingRate {
				all[column] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(all))
}

// distributions judges columns against their references.
func (w *Watched) distributions(signal string, s *Seen, now, reference map[string]*sketch.Column) (out []Look) {
	distinct := min(s.Long.Distinct.Count(), s.LongFresh)
	for _, name := range slices.Sorted(maps.Keys(now)) {
		full := Name(signal, name)
		ref := reference[name]
		if ref == nil {
			out = append(out, Look{Signal: full, Why: "There is no reference profile of it to be held against."})
			continue
		}
		q := drift.SampleOf(now[name], distinct)
		if lacks := drift.DefaultNeed.Lacking(q.Numbers); lacks != "" {
			out = append(out, Look{Signal: full, Why: "Not enough to tell: " + lacks + "."})
			continue
		}
		effect, e, ok := drift.Evidence(drift.SampleOf(ref, ref.Total()), q)
		switch {
		case !ok:
			out = append(out, Look{Signal: full, Why: "It is counted otherwise than its reference."})
		case w.Near[full] < trusted && effect <= drift.Allowed:
			w.Near[full]++
			out = append(out, Look{Signal: full, Why: fmt.Sprintf(
				"It is like its reference in %d of the %d looks that it takes to trust that.", w.Near[full], trusted)})
		case w.Near[full] < trusted:
			out = append(out, Look{Signal: full, Why: otherKind})
		default:
			out = append(out, Look{
				Signal: full, Seen: q.Effective(), Judged: true, Evidence: e, Effect: effect,
				Means: means(ref, now[name]),
			})
		}
	}
	return out
}

// Step takes a look at everything, and says what becomes of alerts. What is no longer there, such as a column that
// nobody sends, stays as it was.
func (w *Watched) Step(s *Seen, u *Usual, now time.Time) []Change {
	if w.Stands == nil {
		w.Stands = map[string]Stand{}
	}
	if w.Near == nil {
		w.Near = map[string]int{}
	}
	before := map[string]bool{}
	for _, st := range w.Stands {
		if st.State == Firing {
			before[group(st.Signal)] = true
		}
	}
	looks := w.Looks(s, u)
	signals := max(len(looks), len(w.Stands))
	var turned []Stand
	for _, l := range looks {
		st, turn := Step(w.Stands[l.Signal], l, signals, now)
		w.Stands[l.Signal] = st
		if turn != Stays {
			turned = append(turned, st)
		}
	}
	silent := silence(w.Stands[RequestRate], s.Silent, u.Quietest, now)
	if was := w.Stands[RequestRate].State; silent.State == Firing && was != Firing {
		turned = append(turned, silent)
	}
	w.Stands[RequestRate] = silent
	return w.changes(turned, before)
}

// order is that in which watches are shown.
var order = []State{Firing, Pending, Quiet, NotEnough}

// List lists the watches, the worst first.
func (w *Watched) List() []Stand {
	return slices.SortedFunc(maps.Values(w.Stands), func(a, b Stand) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.State), slices.Index(order, b.State)),
			cmp.Compare(b.Progress, a.Progress), cmp.Compare(a.Signal, b.Signal))
	})
}

// group is what an alert is about: what moved in the inputs is one thing, however many columns did.
func group(name string) string {
	switch signal, _ := Parts(name); signal {
	case FeatureDrift, MissingRate, OutOfRangeRate:
		return "inputs"
	case PredictionDrift:
		return "predictions"
	default:
		return signal
	}
}

// means says how the means of a column of numbers differ.
func means(reference, now *sketch.Column) string {
	if !now.Bins.Numeric() || now.Seen() == 0 || reference.Seen() == 0 {
		return ""
	}
	return fmt.Sprintf(", its mean %.4g where the reference has %.4g", now.Mean(), reference.Mean())
}

// Distrust forgets what distributions are held against: another version is main, with another reference.
func (w *Watched) Distrust() {
	clear(w.Near)
	for name, s := range w.Stands {
		if signal, _ := Parts(name); (signal == FeatureDrift || signal == PredictionDrift) && s.State != Firing {
			delete(w.Stands, name)
		}
	}
}

// Change is what becomes of the alert about a group of watches.
type Change struct {
	Group string
	// Fires are the watches that began to fire when none of the group did; Resolved is set when none does any more.
	Fires    []Stand
	Resolved bool
}

// changes sums up what turned.
func (w *Watched) changes(turned []Stand, before map[string]bool) (out []Change) {
	now := map[string]bool{}
	for _, s := range w.Stands {
		if s.State == Firing {
			now[group(s.Signal)] = true
		}
	}
	for _, g := range slices.Sorted(maps.Keys(now)) {
		if !before[g] {
			c := Change{Group: g}
			for _, s := range turned {
				if group(s.Signal) == g && s.State == Firing {
					c.Fires = append(c.Fires, s)
				}
			}
			slices.SortStableFunc(c.Fires, func(a, b Stand) int { return cmp.Compare(b.Rate, a.Rate) })
			out = append(out, c)
		}
	}
	for _, g := range slices.Sorted(maps.Keys(before)) {
		if !now[g] {
			out = append(out, Change{Group: g, Resolved: true})
		}
	}
	return out
}

// Is reports whether a watch over a signal, of any column, fires.
func (w *Watched) Is(signals ...string) bool {
	for _, s := range w.Stands {
		signal, _ := Parts(s.Signal)
		if s.State == Firing && slices.Contains(signals, signal) {
			return true
		}
	}
	return false
}
