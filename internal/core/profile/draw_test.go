package profile

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"strconv"
	"testing"

	"innerladder/internal/core/signature"

	"gonum.org/v1/gonum/stat"
)

// Rows that are drawn have the means, the spreads and the correlations of those that the profile is of.
func TestRowsAreDrawnAsTheyWere(t *testing.T) {
	const rows = 4000
	r := rand.New(rand.NewPCG(1, 1))
	names := []string{"outdoor_c", "demand_mw", "hour", "mix", "solar_wm2"}
	var table [][]signature.Cell
	for range rows {
		outdoor := 5 + 8*r.NormFloat64()
		number := func(x float64) signature.Cell { return signature.Cell{Kind: signature.NumberCell, Number: x} }
		table = append(table, []signature.Cell{
			number(outdoor), number(2 - outdoor/10 + 0.3*r.NormFloat64()), number(float64(r.IntN(24))),
			{Kind: signature.TextCell, Text: []string{"old-town", "harbour"}[r.IntN(8)/7]},
			number(math.Max(0, 200*r.NormFloat64())),
		})
		if r.IntN(10) == 0 {
			table[len(table)-1][4] = signature.Cell{}
		}
	}
	p := NewProfiler(nil)
	if err := p.Add(names, table); err != nil {
		t.Fatal(err)
	}
	s, err := p.Signature(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	request := s.SampleRequest(nil)
	d, err := NewDrawing(p.Profile(nil), s, s, request, 3)
	if err != nil || len(d.Columns) != len(names) || len(d.Kept) != 0 {
		t.Fatal(d, err)
	}
	drawn, err := d.Rows(rows)
	if err != nil {
		t.Fatal(err)
	}
	columns := map[string][]float64{}
	harbour, missing, dark := 0, 0, 0
	for _, row := range drawn {
		for _, in := range row.Inputs {
			switch text := string(in.Data[0]); {
			case in.Name == "mix" && text == `"harbour"`:
				harbour++
			case in.Name == "mix" && text == `"old-town"`:
			case text == "null" && in.Name == "solar_wm2":
				missing++
			default:
				x, err := strconv.ParseFloat(text, 64)
				if err != nil || in.Name == "hour" && (x != math.Trunc(x) || x < 0 || x > 23) {
					t.Fatal(in, err)
				}
				columns[in.Name] = append(columns[in.Name], x)
				if in.Name == "solar_wm2" && x == 0 {
					dark++
				}
			}
		}
	}
	near := func(what string, got, want, within float64) {
		t.Helper()
		if !(math.Abs(got-want) <= within) {
			t.Errorf("%s is %.3f, not %.3f", what, got, want)
		}
	}
	near("mean", stat.Mean(columns["outdoor_c"], nil), 5, 0.6)
	near("spread", stat.StdDev(columns["outdoor_c"], nil), 8, 0.5)
	near("correlation", stat.Correlation(columns["outdoor_c"], columns["demand_mw"], nil), -0.936, 0.03)
	near("harbour", float64(harbour)/rows, 1.0/8, 0.02)
	near("missing", float64(missing)/rows, 0.1, 0.02)
	near("dark", float64(dark)/rows, 0.45, 0.03) // half of those that are there: a value with a bin of its own
	near("hour", stat.Mean(columns["hour"], nil), 11.5, 0.5)

	d, err = NewDrawing(p.Profile(nil), s, nil, json.RawMessage(`{"inputs":[{"name":"other","shape":[1],`+
		`"datatype":"FP64","data":[1]}]}`), 3)
	if err != nil || len(d.Columns) != 0 || len(d.Kept) != 1 {
		t.Error(d, err)
	}
	if _, err := NewDrawing(p.Profile(nil), s, nil, json.RawMessage(`{"inputs":[]}`), 3); err == nil {
		t.Error("a request without inputs is taken apart")
	}
}

// What is said of pairs of columns, each over other rows, may not be so of all at once.
func TestCorrelationsThatCannotBe(t *testing.T) {
	f := factorOf([]Correlation{{"a", "b", 1, 9}, {"b", "c", 1, 9}, {"a", "c", -1, 9}},
		map[string]int{"a": 0, "b": 1, "c": 2})
	if f == nil || math.IsNaN(f.At(2, 2)) || f.At(1, 0) < 0.3 {
		t.Error(f)
	}
	if factorOf(nil, nil) != nil {
		t.Error("there is a factor of nothing")
	}
}
