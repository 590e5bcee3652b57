package watch

import (
	"fmt"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
)

// Weeks is how many weeks must be known before a column is held against the same hour of them.
const Weeks = 4

// Hour is what a column was in the same hour of the weeks before, all of them together.
type Hour struct {
	Column   *sketch.Column
	Distinct uint64
	// Apart is how far one of the weeks was from the others at most, as PSI less what chance makes.
	Apart float64
}

// HourOfWeek is what inputs and outputs were in one hour of the week, and which hour of now that is.
type HourOfWeek struct {
	At              time.Time
	Inputs, Outputs map[string]Hour
}

// HoursOf puts the same hour of some weeks together, for one hour of now. It says nothing of columns that are known of
// fewer than Weeks of them, or of too few rows in one.
func HoursOf(at time.Time, weeks []sketch.Content) (out HourOfWeek) {
	out.At = at.Truncate(time.Hour)
	if len(weeks) < Weeks {
		return out
	}
	side := func(pick func(*sketch.Content) map[string]*sketch.Column) map[string]Hour {
		hours := map[string]Hour{}
		for name := range pick(&weeks[0]) {
			if h, ok := hourOf(name, weeks, pick); ok {
				hours[name] = h
			}
		}
		return hours
	}
	out.Inputs = side(func(c *sketch.Content) map[string]*sketch.Column { return c.Inputs })
	out.Outputs = side(func(c *sketch.Content) map[string]*sketch.Column { return c.Outputs })
	return out
}

// hourOf puts one column of some weeks together.
func hourOf(name string, weeks []sketch.Content, pick func(*sketch.Content) map[string]*sketch.Column,
) (h Hour, ok bool) {
	together := func(but int) (*sketch.Column, uint64, bool) {
		var all *sketch.Column
		var distinct sketch.Distinct
		for i := range weeks {
			c := pick(&weeks[i])[name]
			switch {
			case i == but:
				continue
			case c == nil:
				return nil, 0, false
			case all == nil:
				all = c.Clone()
			case all.Merge(c) != nil:
				return nil, 0, false
			}
			distinct.Merge(&weeks[i].Distinct)
		}
		return all, distinct.Count(), true
	}
	if h.Column, h.Distinct, ok = together(-1); !ok {
		return h, false
	}
	for i := range weeks {
		others, distinct, _ := together(i)
		one := drift.SampleOf(pick(&weeks[i])[name], weeks[i].Distinct.Count())
		if drift.DefaultNeed.Lacking(one.Numbers) != "" {
			return h, false
		}
		effect, _, ok := drift.Evidence(drift.SampleOf(others, distinct), one, 0)
		if !ok {
			return h, false
		}
		h.Apart = max(h.Apart, effect)
	}
	return h, true
}

// onwards is how many times as far from four weeks the next may be as one of them is from the others, as PSI: where a
// season turns, weeks at 1, 0, 1 and 4 are followed by one at 9, which is 2.25 times as far.
const onwards = 5

// byTheHour judges a column, whose reference is not of traffic like this, against the same hour of the weeks before.
// One of them is as far from the others as chance and the season have it, and the next may be further: that is allowed
// beside the limit. Where weeks differ by more than the limit among themselves, as weather does, they are no reference.
func byTheHour(l Look, now *sketch.Column, distinct uint64, h Hour, known bool) Look {
	switch {
	case !known:
		return l // why it cannot be told is said
	case h.Apart > l.Allowed:
		l.Why = fmt.Sprintf("Its reference is not of traffic like this, and its hours of the week are no reference: "+
			"they differ by a PSI of %.2f from week to week.", h.Apart)
		return l
	}
	q := drift.SampleOf(now, distinct)
	allowed := l.Allowed + onwards*h.Apart
	effect, e, ok := drift.Evidence(drift.SampleOf(h.Column, h.Distinct), q, allowed)
	if !ok {
		l.Why = "It is counted otherwise than in the weeks before."
		return l
	}
	l.Why = ""
	l.Allowed, l.Seen, l.Bets, l.Effect = allowed, q.Effective(), []float64{e}, effect
	l.Of, l.Means = "the same hour of the weeks before", meansOf("these have", h.Column, now)
	return l
}
