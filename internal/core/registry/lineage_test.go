package registry

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func TestWalkGoesNearestFirstAndStops(t *testing.T) {
	// A diamond with a loop: 1 → 2, 3 → 4 → 1.
	links := map[int][]int{1: {2, 3}, 2: {4}, 3: {4}, 4: {1, 5}}
	asked := 0
	next := func(of []int) (out [][2]int, err error) {
		asked++
		for _, k := range of {
			for _, n := range links[k] {
				out = append(out, [2]int{k, n})
			}
		}
		return out, nil
	}
	for _, c := range []struct {
		depth, most int
		want        string
		cut         bool
	}{
		{10, 100, "[{1 0} {2 1} {3 1} {4 2} {5 3}]", false},
		{1, 100, "[{1 0} {2 1} {3 1}]", true},
		{10, 4, "[{1 0} {2 1} {3 1} {4 2}]", true},
		{0, 100, "[{1 0}]", true},
	} {
		got, cut, err := Walk([]int{1}, c.depth, c.most, next)
		if fmt.Sprint(got) != c.want || cut != c.cut || err != nil {
			t.Errorf("depth %d, most %d: %v, cut %v, %v; want %s, %v", c.depth, c.most, got, cut, err, c.want, c.cut)
		}
	}
}

func TestTree(t *testing.T) {
	trace := Trace{
		Roots: []string{"b@1"},
		Nodes: []Node{
			{ID: "b@1", Kind: VersionNode, Detail: "live", Answering: []string{"demand-hourly"}},
			{ID: "a@1", Kind: VersionNode, Depth: -1},
			{ID: "winters#1", Kind: DataNode, Depth: -1, Detail: "9 rows"},
			{ID: "c@1", Kind: VersionNode, Depth: 1},
		},
		Links: []Link{
			{"b@1", "fine-tuned", "a@1"},
			{"b@1", "trained-on", "winters#1"},
			{"a@1", "trained-on", "winters#1"},
			{"c@1", "distilled", "b@1"},
		},
	}
	got := strings.Join(trace.Tree(), "\n")
	want := `b@1  (live)  answers demand-hourly
  made from
  ├─ fine-tuned a@1
  │  └─ trained-on winters#1  (9 rows)
  └─ trained-on winters#1  (see above)
  went into
  └─ distilled c@1`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestLineUp(t *testing.T) {
	versions := []Version{
		{
			Ref: "m@1", Metrics: map[string]float64{"rmse": 0.4, "r2": 0.9},
			Params:    map[string]string{"depth": "6", "seed": "1"},
			Artifacts: []Artifact{{Size: 5, Contents: Contents{Format: "onnx"}}},
		},
		{
			Ref: "m@2", Metrics: map[string]float64{"rmse": 0.3, "r2": 0.8},
			Params: map[string]string{"depth": "7", "seed": "1"},
		},
		{Ref: "m@3", Metrics: map[string]float64{"rmse": 0.3}, Params: map[string]string{"seed": "1"}},
	}
	l := LineUp(versions, &versions[0])
	rmse := l.Metrics[slices.IndexFunc(l.Metrics, func(m LineupMetric) bool { return m.Name == "rmse" })]
	r2 := l.Metrics[slices.IndexFunc(l.Metrics, func(m LineupMetric) bool { return m.Name == "r2" })]
	if fmt.Sprint(rmse.Best) != "[m@2 m@3]" || math.Abs(rmse.Against["m@2"]+0.1) > 1e-12 ||
		rmse.Verdicts["m@2"] != "better" || fmt.Sprint(r2.Best) != "[m@1]" || r2.Verdicts["m@2"] != "worse" {
		t.Errorf("metrics: %+v %+v", rmse, r2)
	}
	if len(l.Params) != 1 || l.Params[0].Name != "depth" || l.SameParams != 1 || l.Versions[0].Size != 5 ||
		l.Base != "m@1" {
		t.Errorf("line-up: %+v", l)
	}
	if _, there := l.Params[0].Values["m@3"]; there {
		t.Error("a parameter that is not there has a value")
	}
	if alone := LineUp(versions[:1], nil); alone.Base != "" || alone.Metrics[0].Best != nil {
		t.Errorf("one version alone: %+v", alone)
	}
}

func TestSampleRequest(t *testing.T) {
	low, high := -2.0, 4.0
	s := Signature{Inputs: []Column{
		{Name: "x", Type: Number, Min: &low, Max: &high},
		{Name: "n", Type: Integer},
		{Name: "mix", Type: Text, Levels: []string{"works", "a<b"}},
		{Name: "open", Type: Boolean},
		{Name: "window", Type: Number, Shape: []int64{-1, 2}},
	}}
	want := `{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]},{"name":"n","shape":[1],"datatype":"INT64","data":[0]},` +
		`{"name":"mix","shape":[1],"datatype":"BYTES","data":["works"]},{"name":"open","shape":[1],"datatype":"BOOL","data":[false]},{"name":"window","shape":[1,1,2],"datatype":"FP64","data":[0,0]}]}`
	if got := string(s.SampleRequest(nil)); got != want {
		t.Errorf("from ranges:\n got %s\nwant %s", got, want)
	}
	p := NewProfiler(nil)
	if err := p.Add([]string{"x", "mix"},
		[][]Cell{{{Kind: NumberCell, Number: 3.5}, {Kind: TextCell, Text: "a<b"}}}); err != nil {
		t.Fatal(err)
	}
	if got := string(s.SampleRequest(p)); !strings.Contains(got, `"data":[3.5]`) ||
		!strings.Contains(got, `"data":["a<b"]`) || !json.Valid([]byte(got)) {
		t.Errorf("from a row: %s", got)
	}
	if (&Signature{}).SampleRequest(nil) != nil ||
		(&Signature{Inputs: []Column{{Name: "x", Type: Number, Shape: []int64{1 << 40, 1 << 40}}}}).
			SampleRequest(nil) != nil {
		t.Error("a request that cannot be made")
	}
}

func TestSignaturesByHandAreChecked(t *testing.T) {
	low, high := 3.0, 1.0
	for name, c := range map[string]struct {
		s    Signature
		says string
	}{
		"nothing": {Signature{}, "neither inputs nor outputs"},
		"no name": {Signature{Inputs: []Column{{Type: Number}}}, "input 1 has no name"},
		"twice": {
			Signature{Outputs: []Column{{Name: "y", Type: Number}, {Name: "y", Type: Text}}},
			`two outputs are named "y"`,
		},
		"no such type":  {Signature{Inputs: []Column{{Name: "x", Type: "float"}}}, `has the type "float"`},
		"range of text": {Signature{Inputs: []Column{{Name: "x", Type: Text, Min: &low}}}, "is text and has a range"},
		"levels":        {Signature{Inputs: []Column{{Name: "x", Type: Number, Levels: []string{"a"}}}}, "has levels"},
		"backward range": {
			Signature{Inputs: []Column{{Name: "x", Type: Number, Min: &low, Max: &high}}},
			"ranges from 3 to 1",
		},
		"shape": {Signature{Inputs: []Column{{Name: "x", Type: Number, Shape: []int64{0}}}}, "shape [0]"},
	} {
		if err := c.s.Check("signature"); err == nil || !strings.Contains(err.Error(), c.says) ||
			fault.Code(err) != "signature.wrong" {
			t.Errorf("%s: %v, want it to say %q", name, err, c.says)
		}
	}
	good := Signature{Inputs: []Column{{Name: "x", Type: Number, Min: &high, Max: &low, Shape: []int64{-1, 3}}}}
	if err := good.Check("signature"); err != nil {
		t.Error(err)
	}
}

func TestNamesOfThings(t *testing.T) {
	for in, want := range map[string]string{
		"winters-2024": "winters-2024", "winters-2024#2": "winters-2024#2",
		"winters#0": "!", "winters#x": "!", "Winters": "!", "#1": "!",
	} {
		got, err := ParseDataRef("data", in)
		if (err != nil) != (want == "!") || (err == nil && got.String() != want) {
			t.Errorf("data %q: %v, %v", in, got, err)
		}
	}
	for in, want := range map[string]int64{"run-12": 12, "RUN-3": 3, "run-0": 0, "12": 0, "run-x": 0} {
		if got, err := ParseRunRef("run", in); got != want || (err != nil) != (want == 0) {
			t.Errorf("run %q: %d, %v", in, got, err)
		}
	}
	for label, code := range map[string]string{
		"beta": "", "12": "label.number", "live": "label.rung",
		"Beta": "name.form", "": "name.empty",
	} {
		if err := CheckLabel("label", label, []string{"draft", "live"}); fault.Code(err) != code {
			t.Errorf("label %q: %v, want %q", label, err, code)
		}
	}
	for tag, good := range map[string]bool{
		"winter": true, "Öl/gas": true, "": false, "two words": false, "a,b": false,
		strings.Repeat("x", 64): false,
	} {
		if err := CheckTag("tag", tag); (err == nil) != good {
			t.Errorf("tag %q: %v", tag, err)
		}
	}
}

func TestDiffOfCardsDataAndImportance(t *testing.T) {
	a := &Version{
		Ref: "m@1", Card: &Card{Text: "# Heat\nold"}, Data: []DataUse{{"winters#1", TrainedOn}},
		Importance:   map[string]float64{"wind": 0.1},
		Dependencies: []Dependency{{Name: "numpy", Want: "==1.0"}, {Name: "torch"}},
	}
	b := &Version{
		Ref: "m@2", Card: &Card{Text: "# Heat\nnew\n"}, Data: []DataUse{{"winters#2", TrainedOn}},
		Importance:   map[string]float64{"wind": 0.2},
		Dependencies: []Dependency{{Name: "numpy", Want: "==2.0"}, {Name: "torch"}},
	}
	d := DiffVersions(a, b)
	if !strings.Contains(d.Card, "-old\n+new\n") || len(d.Data) != 1 || d.Data[0].Kind != "changed" ||
		len(d.Dependencies) != 1 || d.Importance[0].Verdict != "changed" {
		t.Errorf("diff: %+v", d)
	}
	if DiffVersions(a, a).Card != "" {
		t.Error("equal cards differ")
	}
}

func TestCorrelations(t *testing.T) {
	p := NewProfiler(nil)
	var rows [][]Cell
	number := func(x float64) Cell { return Cell{Kind: NumberCell, Number: x} }
	for i := range 500 {
		x := float64(i)
		row := []Cell{number(x), number(1e9 - 2*x), number(5), number(float64(i % 2))}
		if i%5 == 0 {
			row[1] = Cell{}
		}
		rows = append(rows, row)
	}
	if err := p.Add([]string{"a", "b", "constant", "c"}, rows); err != nil {
		t.Fatal(err)
	}
	got := p.Profile([]string{"c"}).Correlations
	if len(got) != 3 || got[0].A != "a" || got[0].B != "b" || math.Abs(got[0].R+1) > 1e-9 || got[0].Rows != 400 ||
		math.Abs(got[1].R) > 0.05 {
		t.Errorf("correlations: %+v", got)
	}
}

// Walk reaches what can be reached, at its least distance, on any graph.
func TestWalkOnRandomGraphs(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	for range 200 {
		n := 2 + r.IntN(30)
		links := make([][]int, n)
		for range r.IntN(3 * n) {
			a := r.IntN(n)
			links[a] = append(links[a], r.IntN(n))
		}
		// The least distances, by going over all links until nothing changes.
		want := map[int]int{0: 0}
		for changed := true; changed; {
			changed = false
			for a, to := range links {
				d, reached := want[a]
				if !reached {
					continue
				}
				for _, b := range to {
					if old, there := want[b]; !there || old > d+1 {
						want[b], changed = d+1, true
					}
				}
			}
		}
		got, cut, err := Walk([]int{0}, n, n, func(of []int) (out [][2]int, err error) {
			for _, k := range of {
				for _, b := range links[k] {
					out = append(out, [2]int{k, b})
				}
			}
			return out, nil
		})
		if err != nil || cut || len(got) != len(want) {
			t.Fatalf("%d reached, %d can be; cut %v, %v", len(got), len(want), cut, err)
		}
		last := 0
		for _, g := range got {
			if g.Depth != want[g.Key] || g.Depth < last {
				t.Fatalf("%d is %d links away, %d was said", g.Key, want[g.Key], g.Depth)
			}
			last = g.Depth
		}
	}
	if _, _, err := Walk([]int{1}, 1, 1,
		func([]int) ([][2]int, error) { return nil, errors.New("broken") }); err == nil {
		t.Error("an error on the way was lost")
	}
}

func TestCellsAreReadForWhatTheyHold(t *testing.T) {
	for raw, want := range map[string]Cell{
		"": {}, " NA ": {}, "null": {}, "NaN": {}, "nan": {}, "true": {Kind: BooleanCell, Number: 1},
		"FALSE": {Kind: BooleanCell}, "5": {Kind: NumberCell, Number: 5},
		" -1.50 ": {Kind: NumberCell, Number: -1.5},
		"1e3":     {Kind: NumberCell, Number: 1000}, ".5": {Kind: NumberCell, Number: 0.5},
		"1e999": {Kind: TextCell, Text: "1e999"}, "Inf": {Kind: TextCell, Text: "Inf"},
		"12.3.4": {Kind: TextCell, Text: "12.3.4"},
		"works":  {Kind: TextCell, Text: "works"}, "0x10": {Kind: TextCell, Text: "0x10"},
		"12345678901234567890": {Kind: NumberCell, Number: 12345678901234567890},
	} {
		got := Cell{Kind: RawCell, Text: raw}.read(false)
		if raw == "0x10" && got.Kind == NumberCell {
			continue // a hexadecimal number is one in Go's syntax
		}
		if got.Kind != want.Kind || got.Number != want.Number || (want.Kind == TextCell && got.Text != want.Text) {
			t.Errorf("%q reads as %+v, want %+v", raw, got, want)
		}
	}
	for raw, want := range map[string]string{"5": "5", "true": "true", " a ": "a"} {
		if got := (Cell{Kind: RawCell, Text: raw}).read(true); got.Kind != TextCell || got.Text != want {
			t.Errorf("%q as text reads as %+v", raw, got)
		}
	}
	if got := (Cell{Kind: NumberCell, Number: 2.5}).read(true); got.Text != "2.5" {
		t.Errorf("a number as text reads as %+v", got)
	}
}
