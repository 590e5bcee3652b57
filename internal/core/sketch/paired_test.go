package sketch

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

func one(name string, values ...any) Output {
	return Output{Name: name, Rows: len(values), Data: values}
}

// Whether two answers agree: numbers within a tolerance, classes only when they are the same, and an output that is
// not there, or of another shape, never.
func TestAgree(t *testing.T) {
	whole := func(o Output) Output { o.Whole = true; return o }
	scores := func(values ...any) Output { return Output{Name: "scores", Rows: 1, Data: values} }
	for name, c := range map[string]struct {
		main, other []Output
		agree       bool
	}{
		"the same":                {[]Output{one("y", 2.0)}, []Output{one("y", 2.0)}, true},
		"within":                  {[]Output{one("y", 2.0, 3.0)}, []Output{one("y", 2.1, 3.0)}, true},
		"beyond":                  {[]Output{one("y", 2.0, 3.0)}, []Output{one("y", 2.0, 3.5)}, false},
		"both nothing":            {[]Output{one("y", 0.0)}, []Output{one("y", 0.0)}, true},
		"another sign":            {[]Output{one("y", 0.01)}, []Output{one("y", -0.01)}, false},
		"small scores":            {[]Output{scores(0.97, 0.001)}, []Output{scores(0.96, 0.011)}, true},
		"other scores":            {[]Output{scores(0.97, 0.03)}, []Output{scores(0.03, 0.97)}, false},
		"classes":                 {[]Output{one("c", "ok")}, []Output{one("c", "ok")}, true},
		"other classes":           {[]Output{one("c", "ok")}, []Output{one("c", "leaking")}, false},
		"whole numbers":           {[]Output{whole(one("c", 1000.0))}, []Output{whole(one("c", 1001.0))}, false},
		"another type":            {[]Output{one("c", 1.0)}, []Output{one("c", "1")}, false},
		"not there":               {[]Output{one("y", 1.0)}, nil, false},
		"fewer rows":              {[]Output{one("y", 1.0, 1.0)}, []Output{one("y", 1.0)}, false},
		"one more":                {[]Output{one("y", 1.0)}, []Output{one("y", 1.0), one("z", 9.0)}, true},
		"nothing and a null":      {[]Output{one("y", nil)}, []Output{one("y", nil)}, true},
		"no outputs at all":       {nil, nil, true},
		"an output without a row": {[]Output{one("y")}, []Output{one("y")}, true},
	} {
		var p Paired
		if got := p.Agree(c.main, c.other, 0.05); got != c.agree || (p.Disagreed == 0) != c.agree || p.Pairs != 1 {
			t.Errorf("%s: %v, %+v", name, got, p)
		}
	}
}

// The sizes of differences, the bias, kappa and the ratio of times are those of their definitions.
func TestPairedFigures(t *testing.T) {
	var p Paired
	for i := range 100 {
		p.Agree([]Output{one("y", 10.0)}, []Output{one("y", 10.0+float64(i))}, 0.5)
		p.Times(10*time.Millisecond, 20*time.Millisecond)
	}
	y := p.Outputs["y"]
	if y.Rows != 100 || y.Numbers() != 100 || y.Sum != 4950 || y.MeanSize() != 49.5 ||
		math.Abs(y.Size(0.5)-49) > 1 || math.Abs(y.Size(0.95)-94) > 1.5 {
		t.Errorf("%+v %v %v", y, y.Size(0.5), y.Size(0.95))
	}
	if ratio, logError := p.Slower(); math.Abs(ratio-2) > 1e-9 || logError > 1e-6 {
		t.Errorf("%v %v", ratio, logError)
	}
	var q Paired
	// Cohen's own kind of table: 20 yes and yes, 5 yes and no, 10 no and yes, 15 no and no.
	for pair, n := range map[[2]string]int{{"y", "y"}: 20, {"y", "n"}: 5, {"n", "y"}: 10, {"n", "n"}: 15} {
		for range n {
			q.Agree([]Output{one("c", pair[0])}, []Output{one("c", pair[1])}, 0)
		}
	}
	if kappa, there := q.Outputs["c"].Kappa(); !there || math.Abs(kappa-0.4) > 1e-12 {
		t.Errorf("%v %v", kappa, there)
	}
	if _, there := p.Outputs["y"].Kappa(); there {
		t.Error("numbers have no kappa")
	}
}

// What is written and read again, or merged from parts, is what was counted at once; what is cut short is an error.
func TestPairedMerges(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var all Paired
	parts := make([]Paired, 3)
	for i := range 3000 {
		main, other := one("y", r.NormFloat64()), one("y", r.NormFloat64())
		a, b := one("c", string(rune('a'+r.IntN(3)))), one("c", string(rune('a'+r.IntN(3))))
		for _, p := range []*Paired{&all, &parts[i%3]} {
			p.Agree([]Output{main, a}, []Output{other, b}, 0.1)
			p.Times(time.Duration(1+i), time.Duration(2+i))
			p.Dropped++
		}
	}
	var back Paired
	var written []byte
	for i := range parts {
		written = parts[i].AppendBinary(nil)
		if err := back.MergeBinary(written); err != nil {
			t.Fatal(err)
		}
	}
	near := func(x, y float64) bool { return math.Abs(x-y) <= 1e-9*(1+math.Abs(x)) }
	k1, _ := all.Outputs["c"].Kappa()
	k2, _ := back.Outputs["c"].Kappa()
	r1, e1 := all.Slower()
	r2, e2 := back.Slower()
	if back.Pairs != all.Pairs || back.Disagreed != all.Disagreed || back.Dropped != 3000 || !near(k1, k2) ||
		!near(r1, r2) || !near(e1, e2) || !near(all.Outputs["y"].Sum, back.Outputs["y"].Sum) ||
		all.Outputs["y"].Size(0.9) != back.Outputs["y"].Size(0.9) {
		t.Errorf("%+v\n%+v", all, back)
	}
	for n := range len(written) {
		var p Paired
		_ = p.MergeBinary(written[:n]) // whatever it says, it must end
	}
	if new(Paired).MergeBinary(nil) == nil || new(Paired).MergeBinary(written[:5]) == nil {
		t.Error("what is cut short was read")
	}
}

// However many classes and outputs a model server makes up, what is kept of them stays small.
func TestPairedIsBounded(t *testing.T) {
	var p Paired
	for i := range 5000 {
		name := string(rune('a' + i%26))
		p.Agree([]Output{one("c", i), one(name+string(rune('a'+i/26%26)), 1.0)}, []Output{one("c", -i)}, 0)
	}
	if len(p.Outputs) > mostForms || len(p.Outputs["c"].classes) > mostClasses+2 {
		t.Errorf("%d outputs, %d classes", len(p.Outputs), len(p.Outputs["c"].classes))
	}
}
