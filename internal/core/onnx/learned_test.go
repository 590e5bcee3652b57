package onnx

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"innerladder/internal/core/tensor"
	write "innerladder/internal/onnxfile"
)

func graphOf(fields ...write.Field) []byte { return write.Model("g", "", fields...) }

// growing writes the attributes of trees of random questions of a depth; each leaf adds to some classes.
func growing(r *rand.Rand, trees, depth, columns, targets int, side string, least float64) []write.Field {
	var ids, of, which, yes, no, missing, ofLeaf, leaves, to []int
	var values, adds []float64
	var modes []string
	inner := 1<<depth - 1
	for t := range trees {
		for i := range 2*inner + 1 {
			of, ids = append(of, t), append(ids, i)
			missing = append(missing, r.IntN(2))
			if i < inner {
				modes, which = append(modes, "BRANCH_LEQ"), append(which, r.IntN(columns))
				values, yes, no = append(values, r.NormFloat64()), append(yes, 2*i+1), append(no, 2*i+2)
				continue
			}
			modes, which, values = append(modes, "LEAF"), append(which, 0), append(values, 0)
			yes, no = append(yes, 0), append(no, 0)
			for k := range targets {
				ofLeaf, leaves, to = append(ofLeaf, t), append(leaves, i), append(to, k)
				adds = append(adds, max(least, r.NormFloat64())/float64(trees))
			}
		}
	}
	return []write.Field{
		write.Attribute("nodes_treeids", of), write.Attribute("nodes_nodeids", ids),
		write.Attribute("nodes_modes", modes),
		write.Attribute("nodes_featureids", which), write.Attribute("nodes_values", values),
		write.Attribute("nodes_truenodeids", yes), write.Attribute("nodes_falsenodeids", no),
		write.Attribute("nodes_missing_value_tracks_true", missing), write.Attribute(side+"_treeids", ofLeaf),
		write.Attribute(side+"_nodeids", leaves), write.Attribute(side+"_ids", to),
		write.Attribute(side+"_weights", adds),
	}
}

// learnedCases are models of the operators of ai.onnx.ml that take a table of numbers.
func learnedCases() map[string][]byte {
	r := rand.New(rand.NewPCG(7, 11))
	cases := map[string][]byte{}
	table := write.Input("x", 1, -1, 4)
	regression := func(name, operator string, targets int, attributes ...write.Field) {
		cases[name] = graphOf(write.Node(learning, operator, []string{"x"}, []string{"y"}, attributes...), table,
			write.Output("y", 1, -1, targets))
	}
	classification := func(name, operator string, classes int, attributes ...write.Field) {
		cases[name] = graphOf(
			write.Node(learning, operator, []string{"x"}, []string{"label", "scores"}, attributes...), table,
			write.Output("label", 8, -1), write.Output("scores", 1, -1, classes))
	}
	labels := func(n int) write.Field {
		return write.Attribute("classlabels_strings", []string{"ok", "sticking", "leaking"}[:n])
	}
	random := func(n int) []float64 {
		out := make([]float64, n)
		for i := range out {
			out[i] = r.NormFloat64()
		}
		return out
	}
	for _, how := range []string{"SUM", "AVERAGE", "MIN", "MAX"} {
		regression("forest-"+how, "TreeEnsembleRegressor", 1, append(growing(r, 9, 4, 4, 1, "target", -9),
			write.Attribute("n_targets", 1), write.Attribute("aggregate_function", how),
			write.Attribute("base_values", []float64{0.75}))...)
	}
	regression("forest-two-targets", "TreeEnsembleRegressor", 2,
		append(growing(r, 5, 3, 4, 2, "target", -9), write.Attribute("n_targets", 2))...)
	for _, after := range []string{"NONE", "LOGISTIC", "SOFTMAX", "SOFTMAX_ZERO"} {
		classification("classes-three-"+after, "TreeEnsembleClassifier", 3,
			append(growing(r, 7, 3, 4, 3, "class", -9), labels(3), write.Attribute("post_transform", after))...)
	}
	for _, after := range []string{"NONE", "LOGISTIC"} {
		classification("classes-two-"+after, "TreeEnsembleClassifier", 2,
			append(growing(r, 7, 3, 4, 1, "class", -9), labels(2), write.Attribute("post_transform", after))...)
	}
	classification("classes-two-shares", "TreeEnsembleClassifier", 2,
		append(growing(r, 7, 3, 4, 1, "class", 0.01), labels(2))...)
	regression("linear", "LinearRegressor", 2, write.Attribute("coefficients", random(8)),
		write.Attribute("intercepts", random(2)), write.Attribute("targets", 2))
	for _, after := range []string{"NONE", "SOFTMAX", "LOGISTIC"} {
		classification("linear-classes-"+after, "LinearClassifier", 3, write.Attribute("coefficients", random(12)),
			write.Attribute("intercepts", random(3)), labels(3), write.Attribute("post_transform", after))
	}
	regression("scaler", "Scaler", 4, write.Attribute("offset", random(4)), write.Attribute("scale", random(4)))
	for _, norm := range []string{"MAX", "L1", "L2"} {
		regression("normalizer-"+norm, "Normalizer", 4, write.Attribute("norm", norm))
	}
	regression("binarizer", "Binarizer", 4, write.Attribute("threshold", 0.3))
	regression("imputer", "Imputer", 4, write.Attribute("imputed_value_floats", random(4)),
		write.Attribute("replaced_value_float", 0.0))
	cases["vectorizer"] = write.Model("g", "",
		write.Node(learning, "FeatureVectorizer", []string{"x", "x"}, []string{"y"},
			write.Attribute("inputdimensions", []int{4, 4})),
		table, write.Output("y", 1, -1, 8))
	cases["one-hot"] = write.Model("g", "",
		write.Node("", "Cast", []string{"x"}, []string{"whole"}, write.Attribute("to", 7)),
		write.Node(learning, "OneHotEncoder", []string{"whole"}, []string{"y"},
			write.Attribute("cats_int64s", []int{-1, 0, 1}), write.Attribute("zeros", 1)), table,
		write.Output("y", 1, -1, 4, 3))
	cases["labels"] = write.Model("g", "",
		write.Node("", "Cast", []string{"x"}, []string{"whole"}, write.Attribute("to", 7)),
		write.Node(learning, "LabelEncoder", []string{"whole"}, []string{"y"},
			write.Attribute("keys_int64s", []int{0, 1}),
			write.Attribute("values_strings", []string{"harbour", "old-town"}),
			write.Attribute("default_string", "works")),
		table, write.Output("y", 8, -1, 4))
	return cases
}

// learnedRows are what the cases are asked: numbers around zero, some missing, some exactly zero.
func learnedRows() []float64 {
	r := rand.New(rand.NewPCG(3, 5))
	x := make([]float64, 4*25)
	for i := range x {
		x[i] = float64(float32(r.NormFloat64()))
		if i%13 == 0 {
			x[i] = 0
		}
	}
	return x
}

// What another runtime answered, which bench/golden/onnx.mjs asks: see there how the file is made anew.
func TestLearnedAgreesWithAnotherRuntime(t *testing.T) {
	cases := learnedCases()
	if dir := os.Getenv("GOLDEN"); dir != "" {
		for name, b := range cases {
			if err := os.WriteFile(filepath.Join(dir, name+".onnx"), b, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		rows, _ := json.Marshal(learnedRows())
		if err := os.WriteFile(filepath.Join(dir, "rows.json"), rows, 0o600); err != nil {
			t.Fatal(err)
		}
		return
	}
	b, err := os.ReadFile("testdata/learned.json")
	if err != nil {
		t.Fatal(err)
	}
	var golden map[string]map[string][]string
	if err := json.Unmarshal(b, &golden); err != nil {
		t.Fatal(err)
	}
	x, err := tensor.New(learnedRows(), 25, 4).As("FP32")
	if err != nil {
		t.Fatal(err)
	}
	for name, model := range cases {
		t.Run(name, func(t *testing.T) {
			p, err := Load(model)
			if err != nil {
				t.Fatal(err)
			}
			out, err := p.Run([]*tensor.Tensor{x})
			if err != nil {
				t.Fatal(err)
			}
			for i, v := range p.Outputs {
				agrees(t, v.Name, out[i], golden[name][v.Name])
			}
		})
	}
}

func agrees(t *testing.T, name string, got *tensor.Tensor, want []string) {
	t.Helper()
	text, err := got.As("BYTES")
	if err != nil || text.Len() != len(want) || len(want) == 0 {
		t.Fatalf("%s has %d values, want %d (%v)", name, text.Len(), len(want), err)
	}
	for i, g := range text.Data.([]string) {
		x, err := strconv.ParseFloat(g, 64)
		y, errWant := strconv.ParseFloat(want[i], 64)
		if err != nil || errWant != nil {
			if g != want[i] {
				t.Errorf("%s value %d is %q, want %q", name, i, g, want[i])
			}
			continue
		}
		if d := x - y; d > 2e-6 || d < -2e-6 {
			t.Errorf("%s value %d is %v, want %v", name, i, x, y)
		}
	}
}

// What cannot be computed is refused by name when it is loaded, all of it at once.
func TestRefusedByName(t *testing.T) {
	table := write.Input("x", 1, -1, 4)
	branch := write.Field{Number: 5, Value: write.Message(write.Field{Number: 1, Value: "then_branch"},
		write.Field{Number: 6, Value: []byte{}})}
	for name, c := range map[string]struct {
		model []byte
		want  []string
	}{
		"an operator": {
			graphOf(write.Node("", "Loop", []string{"x"}, []string{"y"}),
				write.Node("tarnholm", "Heat", []string{"y"}, []string{"z"}), table, write.Output("z", 1, -1)),
			[]string{
				"the operator Loop",
				"the operator tarnholm.Heat",
			},
		},
		"a datatype": {graphOf(write.Node("", "Cast", []string{"x"}, []string{"y"}, write.Attribute("to", 10)), table,
			write.Output("y", 10, -1)), []string{"the operator Cast: the datatype FP16 is not reckoned with"}},
		"an input": {graphOf(write.Node("", "Abs", []string{"x"}, []string{"y"}), write.Input("x", 16, -1),
			write.Output("y", 16, -1)), []string{`the input "x" is of a datatype that is not reckoned with: BF16`}},
		"a graph within": {graphOf(write.Node("", "If", []string{"x"}, []string{"y"}, branch), table,
			write.Output("y", 1, -1)), []string{
			"the operator If",
			`the operator If with the graph "then_branch" in it`,
		}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Load(c.model)
			u, is := err.(*Unsupported)
			if !is || !slices.Equal(u.Reasons, c.want) {
				t.Errorf("%v, want %q", err, c.want)
			}
		})
	}
}

// No file and no request stops the process, and none makes it reserve more than is bounded.
func TestDamagedAndHostile(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for name, model := range learnedCases() {
		for range 300 {
			b := slices.Clone(model)
			for range 1 + r.IntN(4) {
				b[r.IntN(len(b))] = byte(r.Uint32())
			}
			p, err := Load(b[:len(b)-r.IntN(3)])
			if err != nil || len(p.Inputs) != 1 {
				continue
			}
			x, _ := tensor.New(learnedRows(), 25, 4).As("FP32")
			_, _ = p.Run([]*tensor.Tensor{x}) // any answer will do, and any error
		}
		_ = name
	}
	huge := graphOf(write.Node("", "ConstantOfShape", []string{"n"}, []string{"y"}), write.Input("n", 7, 3),
		write.Output("y", 1, -1, -1, -1))
	p, err := Load(huge)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Run([]*tensor.Tensor{tensor.New([]int64{1 << 40, 1 << 40, 1 << 40}, 3)}); err == nil {
		t.Error("2^120 values were reserved")
	}
}
