// Package robust is about what a version does when things are not as they should be: it says what is to be asked, and
// reads what came back. It asks nobody.
package robust

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/unit"
)

const (
	// UsualRows is how many rows are drawn where nothing is said, LeastRows and MostRows how few and how many may be.
	UsualRows = 60
	LeastRows = 20
	MostRows  = 1000
	// mostInputs is how many inputs are tested for robustness, the first of the request.
	mostInputs = 60
	// noise is how far numbers are moved, in standard deviations of the reference profile.
	noise = 0.1
)

// batches and crowds are how many rows are asked with one request, and how many requests at the same time.
var (
	batches = []int{8, 64, 512}
	crowds  = []int{4, 16}
)

// Test is one disturbance, and the rows with it.
type Test struct {
	Disturbance evidence.Disturbance
	Input       string
	What        string
	// Rows are asked, so many with one request, or at the same time; 0 leaves that to who asks.
	Rows          []signature.Row
	Batch, AtOnce int
	// unit is another that the input comes in.
	unit *unit.Change
}

// Plan is what is asked of a version: rows as they are, and disturbances.
type Plan struct {
	Base  []signature.Row
	Kept  []string
	tests []test
}

// test makes a test when it is its turn, so that not all rows stand in memory.
type test struct {
	Test
	change func(signature.Row) signature.Row
}

// Source is what a plan is made from.
type Source struct {
	// Profile is that of the version as whose callers rows are drawn.
	Profile *profile.Profile
	// Exact is the signature of the version that is asked where it is deployed, Declared that it was registered with.
	Exact, Declared *signature.Signature
	// Request is a sample of one row.
	Request json.RawMessage
	// Rows are so many; the same Seed draws the same.
	Rows int
	Seed uint64
}

// CheckRows says whether so many rows may be drawn.
func CheckRows(rows int) error {
	if rows >= LeastRows && rows <= MostRows {
		return nil
	}
	return fault.New(fault.Invalid, "robustness.rows", "%d rows cannot be drawn", rows).In("rows").
		Do("draw %d to %d", LeastRows, MostRows)
}

// NewPlan says what is asked.
func NewPlan(s Source) (*Plan, error) {
	d, err := profile.NewDrawing(s.Profile, s.Exact, s.Declared, s.Request, s.Seed)
	if err != nil {
		return nil, fault.New(fault.Invalid, "robustness.sample", "the sample request cannot be taken apart: %v", err)
	}
	if len(d.Columns) == 0 {
		return nil, fault.New(fault.Refused, "robustness.no_profile", "no input of %v is in the reference profile",
			signature.Names(s.Exact.Inputs)).In("like").Do("name a version that was registered with rows of them")
	}
	p := &Plan{Kept: d.Kept}
	if p.Base, err = d.Rows(s.Rows); err != nil {
		return nil, err
	}
	p.add(evidence.DisturbanceAgain, "", "the same rows again", 1, 1, nil)
	for _, n := range batches {
		p.add(evidence.DisturbanceBatch, "", fmt.Sprintf("%d rows with one request", n), n, 1, nil)
	}
	dice := rand.New(rand.NewPCG(s.Seed, 6))
	inputs := d.Columns[:min(len(d.Columns), mostInputs)]
	p.add(evidence.DisturbanceNoise, "", "noise on all numbers together", 0, 0, func(r signature.Row) signature.Row {
		for _, name := range inputs {
			if c := s.Profile.Columns[name]; c.Bins.Numeric() && !s.whole(name) {
				r = shaken(r, name, c, dice)
			}
		}
		return r
	})
	for _, name := range inputs {
		p.ofInput(&s, name, dice)
	}
	for _, n := range crowds {
		p.add(evidence.DisturbanceAtOnce, "", fmt.Sprintf("%d requests at a time", n), 1, n, nil)
	}
	return p, nil
}

// whole reports whether an input takes whole numbers, or is meant to.
func (s *Source) whole(name string) bool {
	for _, of := range []*signature.Signature{s.Exact, s.Declared} {
		if c := of.Input(name); c != nil && c.Type == signature.Integer {
			return true
		}
	}
	return false
}

func (p *Plan) add(what evidence.Disturbance, input, says string, batch, atOnce int,
	change func(signature.Row) signature.Row,
) {
	p.tests = append(p.tests, test{
		Test{Disturbance: what, Input: input, What: says, Batch: batch, AtOnce: atOnce}, change,
	})
}

// ofInput adds the disturbances of one input.
func (p *Plan) ofInput(s *Source, name string, dice *rand.Rand) {
	set := func(t evidence.Disturbance, says string, to json.RawMessage) {
		p.add(t, name, says, 0, 0, func(r signature.Row) signature.Row {
			return r.With(name, func(json.RawMessage) json.RawMessage { return to })
		})
	}
	set(evidence.DisturbanceMissing, "null", json.RawMessage("null"))
	p.add(evidence.DisturbanceLeftOut, name, "not in the request", 0, 0, func(r signature.Row) signature.Row {
		return r.Without(name)
	})
	c, exact := s.Profile.Columns[name], s.Exact.Input(name)
	switch {
	case exact.Type == signature.Text:
		level := unknownLevel(c)
		set(evidence.DisturbanceUnknown, level, jsonOf(level))
	case exact.Type.Numeric() && c.Bins.Numeric():
		whole := s.whole(name)
		beyond := c.Max - c.Min
		if beyond == 0 {
			beyond = math.Max(1, math.Abs(c.Max))
		}
		for _, at := range []struct {
			how evidence.Disturbance
			x   float64
		}{
			{evidence.DisturbanceLowest, c.Min},
			{evidence.DisturbanceHighest, c.Max},
			{evidence.DisturbanceBelow, c.Min - beyond},
			{evidence.DisturbanceAbove, c.Max + beyond},
		} {
			set(at.how, short(rounded(at.x, whole)), numberOf(at.x, whole))
		}
		if whole {
			return // a tenth of a step, or another unit, is none for what is counted
		}
		p.add(evidence.DisturbanceNoise, name, "", 0, 0, func(r signature.Row) signature.Row {
			return shaken(r, name, c, dice)
		})
		p.units(s, name)
	}
}

// units adds the other units in which an input may come.
func (p *Plan) units(s *Source, name string) {
	in := s.Exact.Input(name).Unit
	if known := s.Declared.Input(name); in == "" && known != nil {
		in = known.Unit
	}
	for _, change := range unit.Changes(in) {
		p.add(evidence.DisturbanceUnit, name, change.What, 0, 0, func(r signature.Row) signature.Row {
			return r.With(name, func(v json.RawMessage) json.RawMessage {
				x, err := strconv.ParseFloat(string(v), 64)
				if err != nil {
					return v // it is missing
				}
				return numberOf(change.Of(x), false)
			})
		})
		p.tests[len(p.tests)-1].unit = &change
	}
}

// shaken is a row with noise on a number.
func shaken(r signature.Row, name string, c *sketch.Column, dice *rand.Rand) signature.Row {
	return r.With(name, func(v json.RawMessage) json.RawMessage {
		x, err := strconv.ParseFloat(string(v), 64)
		if err != nil {
			return v
		}
		return numberOf(x+noise*c.StandardDeviation()*dice.NormFloat64(), false)
	})
}

func rounded(x float64, whole bool) float64 {
	if whole {
		return math.Round(x)
	}
	return x
}

func numberOf(x float64, whole bool) json.RawMessage {
	return strconv.AppendFloat(nil, rounded(x, whole), 'f', -1, 64)
}

func short(x float64) string { return strconv.FormatFloat(x, 'g', 6, 64) }

func jsonOf(text string) json.RawMessage {
	b, err := json.Marshal(text)
	if err != nil {
		return json.RawMessage(`""`)
	}
	return b
}

// unknownLevel is one that a column has not.
func unknownLevel(c *sketch.Column) string {
	level := "unheard-of"
	for slices.Contains(c.Bins.Levels, level) {
		level += "-of"
	}
	return level
}

// Len is how many tests there are.
func (p *Plan) Len() int { return len(p.tests) }

// Test is that of a number, from 0, with the rows of those of the base that answered says were answered as they are.
// Several rows of one request are those rows as often as it takes.
func (p *Plan) Test(i int, answered []int) Test {
	t := p.tests[i]
	n := len(answered)
	if t.Batch > 1 || t.AtOnce > 1 {
		n = max(n, t.Batch, leastAtOnce*t.AtOnce)
	}
	for k := range n {
		r := p.Base[answered[k%len(answered)]]
		if t.change != nil {
			r = t.change(r)
		}
		t.Rows = append(t.Rows, r)
	}
	return t.Test
}

// leastAtOnce is how many requests each of those that are under way at the same time sends at least.
const leastAtOnce = 8
