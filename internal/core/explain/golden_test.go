package explain

import (
	"encoding/json"
	"math"
	"os"
	"testing"
)

// golden was computed by scikit-learn, and, for Shapley values, by all coalitions in NumPy; see bench/golden/make.py.
type golden struct {
	X          [][]float64 `json:"x"`
	Truth      []float64   `json:"truth"`
	Rises      []float64   `json:"rises"`
	Few        [][]float64 `json:"few"`
	Dependence []struct {
		At, Mean   []float64
		Individual [][]float64
	} `json:"dependence"`
	Row     []float64 `json:"row"`
	Shapley []float64 `json:"shapley"`
}

// townOf is the function that was explained.
func townOf(x []float64) float64 {
	y := 2*x[0] - x[1]*x[2]
	if x[0] > 0 {
		y += x[1]
	}
	return y
}

func read(t *testing.T) *golden {
	t.Helper()
	b, err := os.ReadFile("testdata/golden.json")
	g := new(golden)
	if err == nil {
		err = json.Unmarshal(b, g)
	}
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func predicted(rows [][]float64) *Predictions {
	p := &Predictions{Number: make([]float64, len(rows)), There: make([]bool, len(rows))}
	for i, x := range rows {
		p.Number[i], p.There[i] = townOf(x), true
	}
	return p
}

// with is rows with other values of one input.
func with(rows [][]float64, input int, of func(row int) float64) [][]float64 {
	out := make([][]float64, len(rows))
	for i, x := range rows {
		out[i] = append([]float64(nil), x...)
		out[i][input] = of(i)
	}
	return out
}

func TestImportanceIsThatOfOthers(t *testing.T) {
	g := read(t)
	base := predicted(g.X)
	truth := &Predictions{Number: g.Truth, There: base.There}
	for i, want := range g.Rises {
		var rounds []*Predictions
		for round := range MostRounds {
			from := Shuffled(len(g.X), round)
			rounds = append(rounds, predicted(with(g.X, i, func(row int) float64 { return g.X[from[row]][i] })))
		}
		got := ImportanceOf(base, truth, rounds)
		// Both are means over shuffles of the same rows; 50 of them vary a little yet.
		if math.Abs(got.Loss.Value-want) > 0.03*math.Max(want, 0.02) {
			t.Errorf("input %d: the error rises by %v, and by %v there", i, got.Loss.Value, want)
		}
		if i == 3 && (got.Moves.Value != 0 || got.Loss.High != 0) {
			t.Errorf("what does nothing: %+v", got)
		}
	}
}

func TestDependenceIsThatOfOthers(t *testing.T) {
	g := read(t)
	for i, want := range g.Dependence {
		var at [][]float64
		for _, v := range want.At {
			at = append(at, predicted(with(g.Few, i, func(int) float64 { return v })).Number)
		}
		got := DependenceOf(at)
		for p := range want.At {
			if math.Abs(got.Mean[p]-want.Mean[p]) > 1e-9 {
				t.Fatalf("input %d at %v: %v, and %v there", i, want.At[p], got.Mean[p], want.Mean[p])
			}
			for k, curve := range got.Curves {
				if math.Abs(curve[p]-want.Individual[k][p]) > 1e-9 {
					t.Fatalf("input %d, row %d: %v, and %v there", i, k, curve[p], want.Individual[k][p])
				}
			}
			if got.Low[p] > got.Mean[p] && got.Mean[p] > got.High[p] {
				t.Errorf("%v is not between %v and %v", got.Mean[p], got.Low[p], got.High[p])
			}
		}
	}
}

func TestShapleyValuesAreThoseOfAllCoalitions(t *testing.T) {
	const pairs = MostPairs
	g := read(t)
	var f []float64
	for _, r := range Rows(len(g.Row), pairs) {
		x := append([]float64(nil), g.Few[r.Background%len(g.Few)]...)
		for i, own := range r.Own {
			if own {
				x[i] = g.Row[i]
			}
		}
		f = append(f, townOf(x))
	}
	for i, m := range Shapley(len(g.Row), pairs, f).Inputs {
		if math.Abs(m.By-g.Shapley[i]) > 1.5*m.Error+1e-12 {
			t.Errorf("input %d: %v ± %v, and %v by all coalitions", i, m.By, m.Error, g.Shapley[i])
		}
	}
}
