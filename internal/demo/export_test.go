package demo

import (
	"math"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"innerladder/internal/core/compute"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/tensor"
	"innerladder/internal/intake"
	"innerladder/internal/standin"
)

// What the demo exports is what its readers read: the formats are written and read by
// different code.
func TestExportsAreReadBack(t *testing.T) {
	town := newTown(1, 3000)
	m, err := fitNumber("heat-demand", demandInputs, "demand_mw", []standin.Term{value("outdoor_c"), value("wind_ms")},
		town.demandExamples(500, 24, 3000))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	read := func(name string, write func(*standin.Model, string) error) registry.Contents {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := write(m, path); err != nil {
			t.Fatal(err)
		}
		f, err := os.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			t.Fatal(err)
		}
		c, err := intake.Read(name, f, info.Size())
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	if c := read("m.onnx", writeONNX); c.Format != registry.FormatONNX ||
		len(c.Signature.Inputs) != len(demandInputs) ||
		c.Signature.Outputs[0].Name != "demand_mw" || c.Signature.Inputs[0].Datatype != "FP64" {
		t.Errorf("ONNX: %+v", c)
	}
	if c := read("m.safetensors", writeSafetensors); c.TensorCount != 2 || c.Values != 3 ||
		c.Tensors[1].Name != "intercepts" && c.Tensors[0].Name != "weights" {
		t.Errorf("safetensors: %+v", c)
	}
	if c := read("m.pmml", writePMML); c.Format != registry.FormatPMML || len(c.Signature.Inputs) != 2 ||
		c.Signature.Outputs[0].Name != "demand_mw" {
		t.Errorf("PMML: %+v", c)
	}
	m.Terms[0].How = "sine"
	if err := writePMML(m, filepath.Join(dir, "wrong.pmml")); err == nil {
		t.Error("a term that PMML does not hold was written")
	}
}

// What the built-in runner computes from the file is what the model gives, of every kind of term and what is missing.
func TestONNXFileIsTheModel(t *testing.T) {
	town := newTown(1, 3000)
	rows := town.demandExamples(600, 24, 3000)
	terms := append(calmTerms(), is("mix", "harbour"), standin.Term{
		Of: []string{"wind_ms", "outdoor_c"}, How: "product",
		Scale: 1,
	}, standin.Term{Of: []string{"outdoor_c"}, How: "below", Limit: 15, Scale: 1})
	m, err := fitNumber("heat-demand", demandInputs, "demand_mw", append(terms, waves("hour", 24, 2)...), rows)
	if err != nil {
		t.Fatal(err)
	}
	m.Fill = map[string]float64{"wind_ms": 4}
	file := filepath.Join(t.TempDir(), "m.onnx")
	if err := writeONNX(m, file); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	model, err := compute.Load("onnx", b, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i, e := range rows[:50] {
		var in []*tensor.Tensor
		for _, c := range demandInputs {
			switch v := e.row[c.Name].(type) {
			case string:
				in = append(in, tensor.New([]string{v}, 1))
			case float64:
				if i%5 == 0 && c.Name == "wind_ms" {
					delete(e.row, c.Name)
					v = math.NaN()
				}
				in = append(in, tensor.New([]float64{v}, 1))
				if c.Type == signature.Integer {
					in[len(in)-1] = tensor.New([]int64{int64(v)}, 1)
				}
			}
		}
		out, err := model.Run(in)
		if err != nil {
			t.Fatal(err)
		}
		if y := out[0].Data.([]float64)[0]; math.Abs(y-m.Predict(e.row)) > 1e-9 {
			t.Errorf("row %d: %v, want %v", i, y, m.Predict(e.row))
		}
	}
}

// The curves of a run come from a real descent towards the exact solution.
func TestDescentLearns(t *testing.T) {
	town := newTown(1, 3000)
	train := town.demandExamples(600, 24, 3000)
	m, err := fitNumber("heat-demand", demandInputs, "demand_mw", calmTerms(), train)
	if err != nil {
		t.Fatal(err)
	}
	exact, err := measureNumber(m, train)
	if err != nil {
		t.Fatal(err)
	}
	last := math.Inf(1)
	steps := 0
	descend(&release{fitted: m, train: train, sample: train}, func(epoch int, loss, _ float64) {
		if loss > last+1e-9 {
			t.Errorf("epoch %d: the loss rises to %v from %v", epoch, loss, last)
		}
		last, steps = loss, steps+1
	})
	if steps != epochs || last < exact["rmse"]-0.01 || last > 4*exact["rmse"] {
		t.Errorf("%d epochs end at %v, the exact solution has %v", steps, last, exact["rmse"])
	}
	r := &release{fitted: m}
	total := 0.0
	for _, x := range r.importance() {
		total += x
	}
	if math.Abs(total-1) > 0.001 {
		t.Errorf("importances add up to %s", strconv.FormatFloat(total, 'g', 4, 64))
	}
}
