package profile

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"innerladder/internal/core/signature"
)

func TestSampleRequest(t *testing.T) {
	low, high := -2.0, 4.0
	s := signature.Signature{Inputs: []signature.Column{
		{Name: "x", Type: signature.Number, Min: &low, Max: &high},
		{Name: "n", Type: signature.Integer},
		{Name: "mix", Type: signature.Text, Levels: []string{"works", "a<b"}},
		{Name: "open", Type: signature.Boolean},
		{Name: "window", Type: signature.Number, Shape: []int64{-1, 2}},
	}}
	want := `{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]},{"name":"n","shape":[1],"datatype":"INT64","data":[0]},` +
		`{"name":"mix","shape":[1],"datatype":"BYTES","data":["works"]},{"name":"open","shape":[1],"datatype":"BOOL","data":[false]},{"name":"window","shape":[1,1,2],"datatype":"FP64","data":[0,0]}]}`
	if got := string(s.SampleRequest(nil)); got != want {
		t.Errorf("from ranges:\n got %s\nwant %s", got, want)
	}
	p := NewProfiler(nil)
	if err := p.Add([]string{"x", "mix"},
		[][]signature.Cell{{
			{Kind: signature.NumberCell, Number: 3.5}, {Kind: signature.TextCell, Text: "a<b"},
		}}); err != nil {
		t.Fatal(err)
	}
	if got := string(s.SampleRequest(p.First)); !strings.Contains(got, `"data":[3.5]`) ||
		!strings.Contains(got, `"data":["a<b"]`) || !json.Valid([]byte(got)) {
		t.Errorf("from a row: %s", got)
	}
	if (&signature.Signature{}).SampleRequest(nil) != nil ||
		(&signature.Signature{
			Inputs: []signature.Column{{Name: "x", Type: signature.Number, Shape: []int64{1 << 40, 1 << 40}}},
		}).
			SampleRequest(nil) != nil {
		t.Error("a request that cannot be made")
	}
}

func TestCorrelations(t *testing.T) {
	p := NewProfiler(nil)
	var rows [][]signature.Cell
	number := func(x float64) signature.Cell { return signature.Cell{Kind: signature.NumberCell, Number: x} }
	for i := range 500 {
		x := float64(i)
		row := []signature.Cell{number(x), number(1e9 - 2*x), number(5), number(float64(i % 2))}
		if i%5 == 0 {
			row[1] = signature.Cell{}
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
