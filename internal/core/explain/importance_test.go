package explain

import (
	"math"
	"slices"
	"testing"
)

func TestPlaces(t *testing.T) {
	if got := Places([]float64{3, 1, math.NaN(), 3, 2}); !slices.Equal(got, []float64{1, 2, 3}) {
		t.Error(got)
	}
	var many []float64
	for i := range 1000 {
		many = append(many, float64(i*7%1000))
	}
	got := Places(many)
	if len(got) != MostPlaces || got[0] != 0 || got[MostPlaces-1] != 999 || !slices.IsSorted(got) {
		t.Error(got)
	}
	if got := Places(append(make([]float64, 500), many[:100]...)); got[0] != 0 || len(got) >= MostPlaces {
		t.Errorf("most are 0: %v", got) // quantiles that are the same are one place
	}
	if got := Levels([]string{"b", "a", "b", "c"}); !slices.Equal(got, []string{"b", "a", "c"}) {
		t.Error(got)
	}
	if Places(nil) != nil || Levels(nil) != nil {
		t.Error("there are places of nothing")
	}
}

func TestImportanceOfClasses(t *testing.T) {
	all := []bool{true, true, true, true}
	base := &Predictions{Class: []string{"ok", "ok", "leaking", "ok"}, There: all}
	truth := &Predictions{Class: []string{"ok", "ok", "leaking", "leaking"}, There: all}
	round := &Predictions{Class: []string{"ok", "leaking", "ok", "leaking"}, There: all}
	got := ImportanceOf(base, truth, []*Predictions{round, base})
	// In one of two rounds three of four rows are others, two of them right before, and one wrong before.
	if got.Moves.Value != 3.0/8 || got.Loss.Value != 1.0/8 {
		t.Errorf("%+v %+v", got.Moves, got.Loss)
	}
	if loss, n := LossOf(base, truth); loss != 0.25 || n != 4 {
		t.Error(loss, n)
	}
	// A row without an answer in one round is left out of all.
	round.There = []bool{true, false, true, true}
	if got := ImportanceOf(base, nil, []*Predictions{round, base}); got.Loss != nil || got.Moves.Value != 2.0/6 ||
		got.Rows != 3 {
		t.Errorf("%+v", got)
	}
	// Of what is answered to no row nothing is known, which is not that it has no effect.
	none := &Predictions{Class: make([]string, 4), There: make([]bool, 4)}
	if got := ImportanceOf(base, truth, []*Predictions{none}); got.Rows != 0 {
		t.Errorf("%+v", got)
	}
}

func TestDependenceLeavesOutWhatIsNotThere(t *testing.T) {
	nan := math.NaN()
	d := DependenceOf([][]float64{{1, 2, nan}, {3, 4, 5}})
	if !slices.Equal(d.Mean, []float64{1.5, 3.5}) || len(d.Curves) != 2 || !slices.Equal(d.Curves[1], []float64{2, 4}) {
		t.Errorf("%+v", d)
	}
	if d := DependenceOf([][]float64{{nan}, {1}}); d.Mean != nil {
		t.Errorf("%+v", d)
	}
	if d := DependenceOf(nil); d.Mean != nil {
		t.Errorf("%+v", d)
	}
}
