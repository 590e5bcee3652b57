package demo

import (
	"math"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"innerladder/internal/core/registry"
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
	if c := read("m.onnx", writeONNX); c.Format != registry.FormatONNX || c.TensorCount != 2 || c.Values != 3 ||
		c.Signature.Outputs[0].Name != "demand_mw" || c.Signature.Inputs[0].Shape[1] != 2 {
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
