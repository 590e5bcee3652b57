package compare

import (
	"math/rand/v2"
	"testing"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
)

// seen is a span of two columns in so many steps of 100 rows, of which wind is moved, and mix is not.
func seen(r *rand.Rand, bins sketch.Bins, steps int, moved float64) Span {
	out := Span{Whole: map[string]*sketch.Column{"wind": sketch.NewColumn(bins), "solar": sketch.NewColumn(bins)}}
	for range steps {
		step := map[string]*sketch.Column{"wind": sketch.NewColumn(bins), "solar": sketch.NewColumn(bins)}
		for range 100 {
			step["wind"].AddValue(r.NormFloat64() + moved)
			step["solar"].AddValue(r.NormFloat64())
		}
		for name, c := range step {
			_ = out.Whole[name].Merge(c) // their bins are equal
		}
		out.Steps, out.StepsDistinct = append(out.Steps, step), append(out.StepsDistinct, 100)
		out.Distinct += 100
	}
	return out
}

// What moved stands first, and what did not is within noise; a step by itself is held against the whole.
func TestSpansAreHeldAgainstOneAnother(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	values := make([]float64, 5000)
	for i := range values {
		values[i] = r.NormFloat64()
	}
	bins := sketch.EqualFrequency(values, 20)
	before, now := seen(r, bins, 30, 0), seen(r, bins, 30, 1)
	delete(before.Whole, "gusts")
	now.Whole["gusts"] = sketch.NewColumn(bins)
	items, left := Against(before, now, drift.DefaultNeed)
	if len(items) != 2 || items[0].Column != "wind" || items[0].Movement.Verdict != drift.Moved ||
		items[1].Movement.Verdict != drift.Steady || len(left) != 1 || left[0] != "gusts" {
		t.Fatalf("%+v, %v", items, left)
	}
	if _, left := Against(now, before, drift.DefaultNeed); len(left) != 1 || left[0] != "gusts" {
		t.Errorf("what is not sent any more is not named: %v", left)
	}
	if *items[0].CandidateMean < 0.8 || *items[0].IncumbentMean > 0.2 {
		t.Errorf("%v %v", *items[0].IncumbentMean, *items[0].CandidateMean)
	}
	step, ok := StepAgainst(before.Whole["wind"], before.Distinct, now.Steps[3]["wind"], 100,
		drift.Need{Observations: 50, Distinct: 50})
	if !ok || step.Effect < 0.3 || step.Says != drift.Moved || step.Rows != 100 {
		t.Errorf("%+v", step)
	}
	if _, ok := StepAgainst(before.Whole["wind"], 1, sketch.NewColumn(sketch.EqualFrequency(values, 5)), 1,
		drift.DefaultNeed); ok {
		t.Error("other bins are compared")
	}
	// Two times together are as many rows, and the same law.
	both := before.With(seen(r, bins, 30, 0))
	if both.Whole["solar"].Total() != 6000 || both.Distinct != 6000 {
		t.Errorf("%d rows, %d distinct", both.Whole["solar"].Total(), both.Distinct)
	}
	if same, _ := Against(both, before, drift.DefaultNeed); same[0].Movement.Verdict != drift.Steady {
		t.Errorf("%+v", same[0].Movement)
	}
}
