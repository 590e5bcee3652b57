package onnx

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"innerladder/internal/core/tensor"
)

// The conformance cases of Debian's libonnx-testdata: what is claimed is computed as the standard says, and what is not
// claimed is refused at loading by name. They were made by the authors of the standard.
func TestConformance(t *testing.T) {
	const data = "/usr/share/libonnx-testdata/data"
	cases, _ := filepath.Glob(data + "/node/*")
	more, _ := filepath.Glob(data + "/[ps]*/*")
	if cases = append(cases, more...); len(cases) == 0 {
		if os.Getenv("FOREIGN") == "needed" {
			t.Fatal("libonnx-testdata is not installed")
		}
		t.Skip("libonnx-testdata is not installed")
	}
	passed, refused, used := 0, map[string]int{}, map[string]bool{}
	for _, dir := range cases {
		name := filepath.Base(dir)
		b, err := os.ReadFile(filepath.Join(dir, "model.onnx"))
		if err != nil {
			continue
		}
		p, err := Load(b)
		if err != nil {
			refused[err.Error()]++
			continue
		}
		sets, _ := filepath.Glob(filepath.Join(dir, "test_data_set_*"))
		if err := conforms(p, sets); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		passed++
		for _, s := range p.steps {
			used[full(s.node.domain, s.node.operator)] = true
		}
	}
	t.Logf("%d cases pass, %d are refused, of %d operators %d are in a case", passed, len(cases)-passed,
		len(Operators()), len(used))
	for _, name := range Operators() {
		if !used[name] && !strings.HasPrefix(name, learning) {
			t.Logf("in no case: %s", name)
		}
	}
	if os.Getenv("REFUSED") != "" {
		for why, n := range refused {
			t.Logf("%4d %s", n, why)
		}
	}
	if passed < 600 {
		t.Errorf("only %d cases pass", passed)
	}
}

func conforms(p *Program, sets []string) error {
	for _, set := range sets {
		in, err := tensors(set, "input", len(p.Inputs))
		if err != nil {
			return err
		}
		want, err := tensors(set, "output", len(p.Outputs))
		if err != nil {
			return err
		}
		got, err := p.Run(in)
		if err != nil {
			return err
		}
		for i := range want {
			if err := near(got[i], want[i]); err != nil {
				return fmt.Errorf("output %d: %w", i, err)
			}
		}
	}
	return nil
}

func tensors(dir, side string, n int) ([]*tensor.Tensor, error) {
	var out []*tensor.Tensor
	for i := range n {
		b, err := os.ReadFile(filepath.Join(dir, fmt.Sprintf("%s_%d.pb", side, i)))
		if err != nil {
			return nil, err
		}
		_, t, err := decodeTensor(b)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

// near compares with the tolerances of the standard's own runner: 1e-7 and a thousandth of the value.
func near(got, want *tensor.Tensor) error {
	if got.Datatype() != want.Datatype() || fmt.Sprint(got.Shape) != fmt.Sprint(want.Shape) {
		return fmt.Errorf("%s %v, want %s %v", got.Datatype(), got.Shape, want.Datatype(), want.Shape)
	}
	if got.Datatype() == "BYTES" {
		if fmt.Sprint(got.Data) != fmt.Sprint(want.Data) {
			return fmt.Errorf("%v, want %v", got.Data, want.Data)
		}
		return nil
	}
	g, err := got.Floats()
	if err != nil {
		return err
	}
	w, _ := want.Floats()
	for i := range w {
		if g[i] == w[i] || math.IsNaN(g[i]) && math.IsNaN(w[i]) {
			continue
		}
		if !(math.Abs(g[i]-w[i]) <= 1e-7+1e-3*math.Abs(w[i])) {
			return fmt.Errorf("value %d is %v, want %v", i, g[i], w[i])
		}
	}
	return nil
}
