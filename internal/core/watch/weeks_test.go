package watch

import (
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
)

// weekOf is an hour of a week before, of so many rows.
func (c *town) weekOf(rows int, row func() (wind, outdoor any)) (w sketch.Content) {
	w.Rows, w.Inputs = uint64(rows), map[string]*sketch.Column{}
	for name, ref := range c.reference {
		w.Inputs[name] = sketch.NewColumn(ref.Bins)
	}
	for range rows {
		wind, outdoor := row()
		w.Inputs["wind"].AddValue(wind)
		w.Inputs["outdoor"].AddValue(outdoor)
		w.Distinct.AddHash(c.r.Uint64())
	}
	return w
}

// What is far from the reference of a year at every hour is held against the same hour of the weeks before, once four
// are known and are like each other: what moves then is seen, and what does not is not.
func TestTheSameHourOfTheWeeksBefore(t *testing.T) {
	cold := func(c *town, by float64) func() (any, any) {
		return func() (any, any) {
			w, _ := c.usual()
			return w, -5 + by + 0.5*c.r.NormFloat64()
		}
	}
	for name, c := range map[string]struct {
		weeks int
		apart float64 // how far weeks are from one another
		now   float64
		state State
		says  string
		fires bool
	}{
		"as it was":              {4, 0, 0, Quiet, "is like the same hour of the weeks before", false},
		"it moved":               {4, 0, 1, Firing, "where these have -5", true},
		"it moved a little":      {4, 0, 0.1, Quiet, "is like", false},
		"three weeks are known":  {3, 0, 1, NotEnough, "as an hour is from a year", false},
		"weather":                {4, 2, 1, NotEnough, "differ by a PSI of", false},
		"weeks that differ some": {4, 0.05, 0.1, Quiet, "is like the same hour", false},
	} {
		t.Run(name, func(t *testing.T) {
			town := newTown()
			var weeks []sketch.Content
			for k := range c.weeks {
				weeks = append(weeks, town.weekOf(3000, cold(town, float64(k)*c.apart)))
			}
			town.hour = HoursOf(town.at, weeks)
			for range 300 {
				if fired := town.look(100, cold(town, c.now)); len(fired) > 0 != c.fires && !c.fires {
					t.Fatalf("%v fired", fired)
				}
			}
			if s := town.w.Stands["feature_drift.outdoor"]; s.State != c.state || !strings.Contains(s.Sentence,
				c.says) {
				t.Errorf("%s: %s, want %s: %s", s.State, s.Sentence, c.state, c.says)
			}
			if s := town.w.Stands["feature_drift.wind"]; s.State != Quiet || !strings.Contains(s.Sentence, "its "+
				"reference") {
				t.Errorf("what is like its reference is held against that: %+v", s)
			}
		})
	}
	// Another hour says nothing about this one.
	town := newTown()
	var weeks []sketch.Content
	for range 4 {
		weeks = append(weeks, town.weekOf(3000, cold(town, 0)))
	}
	town.hour = HoursOf(town.at.Add(time.Hour), weeks)
	for range 100 {
		town.look(100, cold(town, 3))
	}
	if s := town.w.Stands["feature_drift.outdoor"]; s.State != NotEnough {
		t.Errorf("%+v", s)
	}
	// A week of too few rows is no week.
	weeks[2] = town.weekOf(50, cold(town, 0))
	if h := HoursOf(town.at, weeks); len(h.Inputs) != 0 {
		t.Errorf("%d columns are known from a week of 50 rows", len(h.Inputs))
	}
}
