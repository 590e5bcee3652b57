package watch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
)

// Watched is where all watches of an endpoint stand.
type Watched struct {
	Stands map[string]Stand `json:"stands"`
	// Near counts, by column, the looks in which its distribution was near its reference at first. Only a reference
	// that the traffic resembled says anything about an hour of it: one of a whole year calls every hour moved.
	Near map[string]int `json:"near"`
	Came Came           `json:"came"`
	// Withheld are the changes, by what they are about, of which nobody was told because that is muted.
	Withheld map[string]Change `json:"withheld,omitempty"`
}

// otherKind says why a distribution is not held against its reference.
const otherKind = "Its reference is not of traffic like this: it was far from it from the beginning, as an hour is " +
	"from a year. Hours of the week will serve when some weeks are known."

// trusted is in how many looks a distribution must be near its reference before it is held against that.
const trusted = 3

// Usual is what an endpoint did before, as far as it is known, and what its columns are held against.
type Usual struct {
	Yesterday, LastWeek, Main *Past
	// Missing are the shares of the reference, by column.
	Missing map[string]float64
	// Dispersion is the variance of the requests per minute by their mean; 0 where it is not known.
	Dispersion float64
	// Quietest are the hours of the last week.
	Quietest Quietest
	// Metrics are those that main was registered with.
	Metrics         map[string]float64
	Inputs, Outputs map[string]*sketch.Column
	// Hour is what its columns were in the same hour of the weeks before.
	Hour HourOfWeek
}

// Part is what some lanes of an endpoint did since the last look.
type Part struct {
	Counts  sketch.Counts
	Latency sketch.Quantiles
}

// Seen is what an endpoint did since the last look.
type Seen struct {
	// All is of all lanes whose answers callers get, Trial of the trial lane alone.
	All, Trial Part
	// Took is how long it is since the last look.
	Took    time.Duration
	Refused uint64
	// Silent is for how long nobody has called.
	Silent time.Duration
	// Content is what was read of bodies, Fresh how many rows of it had not come before, as far back as is known.
	Content sketch.Content
	Fresh   uint64
	// Long is what was read since a distribution was judged last, with how many rows of it were fresh; nil when it is
	// too little.
	Long      *sketch.Content
	LongFresh uint64
	// LongAt is when it began to come, all of it in the same hour.
	LongAt time.Time
	// Truths are of the predictions of main whose truth came, by output.
	Truths map[string]Truths
	// Custom are the values of custom signals that were reported, by full name.
	Custom map[string][]float64
}

// Looks are what is looked at, by the name of the watch.
func (w *Watched) Looks(set *Set, s *Seen, u *Usual) (out []Look) {
	for _, r := range set.Effective() {
		signal, _ := Parts(r.Signal)
		if r.Off || slices.Contains(ofColumns, signal) {
			continue
		}
		of := &s.All
		if r.Versus == Main {
			of = &s.Trial
		}
		switch q := guard.Quantile(signal); {
		case q > 0:
			out = append(out, slower(r, q, &of.Latency, u))
		case signal == SlowRate:
			out = append(out, slow(r, &of.Latency, u))
		case signal == RequestRate:
			out = append(out, w.tooFew(r, s, u))
		default:
			out = append(out, rate(r, of.Counts, s.Refused, u))
		}
	}
	out = append(out, w.ofColumns(set, s, u)...)
	out = append(out, w.ofTruths(set, s, u)...)
	out = append(out, w.ofCustom(set, s, u)...)
	if s.Long != nil {
		var inputs, outputs map[string]Hour
		if s.LongAt.Truncate(time.Hour).Equal(u.Hour.At) {
			inputs, outputs = u.Hour.Inputs, u.Hour.Outputs
		}
		out = append(out, w.distributions(set, FeatureDrift, s, s.Long.Inputs, u.Inputs, inputs)...)
		out = append(out, w.distributions(set, PredictionDrift, s, s.Long.Outputs, u.Outputs, outputs)...)
	}
	return out
}

// ofColumns looks at what is missing and out of range in the inputs.
func (w *Watched) ofColumns(set *Set, s *Seen, u *Usual) (out []Look) {
	share := independent(s.Content.Rows, s.Fresh)
	for _, name := range w.columns(s) {
		c := s.Content.Inputs[name]
		if c == nil {
			c = &sketch.Column{}
		}
		if r, ok := set.rule(MissingRate, name); ok {
			full := Name(MissingRate, name)
			// Rows that do not have the column at all lack it too, once it is known.
			absent := uint64(0)
			if _, known := w.Stands[full]; known && s.Content.Rows > c.Total() {
				absent = s.Content.Rows - c.Total()
			}
			usual := u.Missing[name]
			if p := u.past(r.Versus); p.Known() {
				usual = max(usual, p.Missing[name])
			}
			out = append(out, ofColumn(r, full, c.Total()+absent, c.Missing+absent, share, usual,
				"rows have no "+name))
		}
		if r, ok := set.rule(OutOfRangeRate, name); ok {
			usual := 0.0
			if p := u.past(r.Versus); p.Known() {
				usual = p.Outside[name]
			}
			out = append(out, ofColumn(r, Name(OutOfRangeRate, name), c.Seen(), c.Outside(), share, usual,
				"rows have "+name+" outside of the range of its reference"))
		}
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
func (w *Watched) distributions(set *Set, signal string, s *Seen, now, reference map[string]*sketch.Column,
	hours map[string]Hour,
) (out []Look) {
	distinct := min(s.Long.Distinct.Count(), s.LongFresh)
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if r, ok := set.rule(signal, name); ok {
			h, known := hours[name]
			l, trusts := w.distribution(r, Name(signal, name), now[name], distinct, reference[name])
			if !trusts {
				l = byTheHour(l, now[name], distinct, h, known)
			}
			out = append(out, l)
		}
	}
	return out
}

// distribution judges one column against its reference. trusts is false where that is not of traffic like this.
func (w *Watched) distribution(r Rule, full string, now *sketch.Column, distinct uint64, ref *sketch.Column,
) (l Look, trusts bool) {
	q := drift.SampleOf(now, distinct)
	l = Look{Signal: full, Rule: r, Allowed: r.Limit.Value, Of: "its reference"}
	if lacks := drift.DefaultNeed.Lacking(q.Numbers); lacks != "" {
		l.Why = "Not enough to tell: " + lacks + "."
		return l, true
	}
	if ref == nil {
		l.Why = "There is no reference profile of it to be held against."
		return l, false
	}
	effect, e, ok := drift.Evidence(drift.SampleOf(ref, ref.Total()), q, l.Allowed)
	switch {
	case !ok:
		l.Why = "It is counted otherwise than its reference."
	case w.Near[full] < trusted && effect <= l.Allowed:
		w.Near[full]++
		l.Why = fmt.Sprintf("It is like its reference in %d of the %d looks that it takes to trust that.", w.Near[full],
			trusted)
	case w.Near[full] < trusted:
		l.Why = otherKind
		return l, false
	default:
		l.Seen, l.Bets, l.Effect = q.Effective(), []float64{e}, effect
		l.Means = meansOf("the reference has", ref, now)
	}
	return l, true
}

// Step takes a look at everything, and says what becomes of alerts. What is no longer there, such as a column that
// nobody sends, stays as it was; what is not watched any more is gone.
func (w *Watched) Step(set *Set, s *Seen, u *Usual, now time.Time) []Change {
	if w.Stands == nil {
		w.Stands = map[string]Stand{}
	}
	if w.Near == nil {
		w.Near = map[string]int{}
	}
	before := map[string]bool{}
	for _, st := range w.Stands {
		if st.State == Firing {
			before[Group(st.Signal)] = true
		}
	}
	looks := w.Looks(set, s, u)
	w.forget(set)
	signals := max(len(looks), len(w.Stands))
	var turned []Stand
	for _, l := range looks {
		st, turn := Step(w.Stands[l.Signal], l, signals, now)
		w.Stands[l.Signal] = st
		if turn != Stays {
			turned = append(turned, st)
		}
	}
	if !set.Sets(RequestRate) {
		silent := silence(w.Stands[RequestRate], s.Silent, u.Quietest, now)
		if was := w.Stands[RequestRate].State; silent.State == Firing && was != Firing {
			turned = append(turned, silent)
		}
		w.Stands[RequestRate] = silent
	}
	return w.changes(turned, before)
}

// forget takes away the watches that no rule is about any more.
func (w *Watched) forget(set *Set) {
	wanted := map[string]bool{}
	for _, r := range set.Effective() {
		wanted[r.Name()] = !r.Off
	}
	maps.DeleteFunc(w.Stands, func(name string, _ Stand) bool {
		signal, column := Parts(name)
		switch {
		case column != "":
			_, ok := set.rule(signal, column)
			return !ok
		case name == RequestRate:
			return set.Sets(name) && !wanted[name]
		}
		return !wanted[name]
	})
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

// Group is what an alert is about: what moved in the inputs is one thing, however many columns did.
func Group(name string) string {
	switch signal, _ := Parts(name); signal {
	case FeatureDrift, MissingRate, OutOfRangeRate:
		return "inputs"
	case PredictionDrift:
		return "predictions"
	case MAE, Accuracy:
		return "accuracy"
	}
	return name
}

// meansOf says how the means of a column of numbers differ.
func meansOf(has string, reference, now *sketch.Column) string {
	if !now.Bins.Numeric() || now.Seen() == 0 || reference.Seen() == 0 {
		return ""
	}
	return fmt.Sprintf(", its mean %.4g where %s %.4g", now.Mean(), has, reference.Mean())
}

// Distrust forgets what distributions are held against: another version is main, with another reference.
func (w *Watched) Distrust() {
	clear(w.Near)
	for name, s := range w.Stands {
		if drifts(name) && s.State != Firing {
			delete(w.Stands, name)
		}
	}
}

// Change is what becomes of the alert about a group of watches.
type Change struct {
	Group string `json:"group"`
	// Fires are the watches that began to fire when none of the group did, or after others of it if more follows than
	// an alert; Resolved is set when none does any more.
	Fires    []Stand `json:"fires"`
	Resolved bool    `json:"resolved,omitempty"`
}

// Response is the sternest that the watches ask for which began to fire, and the first of them that does.
func (c *Change) Response() (then guard.Response, first Stand) {
	then = guard.Notify
	for _, s := range c.Fires {
		if slices.Index(guard.Responses, s.Then) > slices.Index(guard.Responses, then) {
			then, first = s.Then, s
		}
	}
	return then, first
}

// changes sums up what turned.
func (w *Watched) changes(turned []Stand, before map[string]bool) (out []Change) {
	now := map[string]bool{}
	for _, s := range w.Stands {
		if s.State == Firing {
			now[Group(s.Signal)] = true
		}
	}
	for _, g := range slices.Sorted(maps.Keys(now)) {
		c := Change{Group: g}
		for _, s := range turned {
			if Group(s.Signal) == g && s.State == Firing {
				c.Fires = append(c.Fires, s)
			}
		}
		slices.SortStableFunc(c.Fires, func(a, b Stand) int { return cmp.Compare(b.Rate, a.Rate) })
		if then, _ := c.Response(); !before[g] || then != guard.Notify {
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

// Due are the changes that are carried out now: what is muted is withheld until it is not, and is forgotten when it is
// well again by then.
func (w *Watched) Due(changes []Change, mutes []Mute, now time.Time) (due []Change) {
	for _, c := range changes {
		switch {
		case c.Resolved:
			due = append(due, c)
			delete(w.Withheld, c.Group)
		case Muted(mutes, c.Group, now):
			if w.Withheld == nil {
				w.Withheld = map[string]Change{}
			}
			c.Fires = append(w.Withheld[c.Group].Fires, c.Fires...)
			w.Withheld[c.Group] = c
		default:
			due = append(due, c)
		}
	}
	for _, g := range slices.Sorted(maps.Keys(w.Withheld)) {
		if !Muted(mutes, g, now) {
			due = append(due, w.Withheld[g])
			delete(w.Withheld, g)
		}
	}
	return due
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
