package signature

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

// Which datatypes of the protocol a column can be sent as.
func TestWhatAServerTakes(t *testing.T) {
	for _, c := range []struct {
		datatype string
		takes    []Type
	}{
		{"FP64", []Type{Number, Integer}},
		{"FP16", []Type{Number, Integer}},
		{"BF16", []Type{Number, Integer}},
		{"INT64", []Type{Integer}},
		{"UINT8", []Type{Integer}},
		{"BOOL", []Type{Boolean}},
		{"BYTES", []Type{Text}},
		{"COMPLEX", nil},
		{"", nil},
	} {
		for _, kind := range []Type{Number, Integer, Boolean, Text} {
			s := Signature{Inputs: []Column{{Name: "x", Type: kind}}}
			reasons := s.Fits(Served{Inputs: []Tensor{{Name: "x", Datatype: c.datatype, Shape: []int64{-1}}}})
			if fits := len(reasons) == 0; fits != slices.Contains(c.takes, kind) {
				t.Errorf("%s as %s: %v", kind, c.datatype, reasons)
			}
		}
	}
}

// Shapes must agree, as far as both sides say them.
func TestShapesAtTheServer(t *testing.T) {
	for name, c := range map[string]struct {
		column []int64
		tensor []int64
		fits   bool
	}{
		"one value":                {nil, []int64{-1}, true},
		"one value, said":          {nil, []int64{-1, 1}, true},
		"three values":             {[]int64{3}, []int64{-1, 3}, true},
		"three values as a matrix": {[]int64{2, 3}, []int64{-1, 6}, true},
		"too few":                  {[]int64{3}, []int64{-1, 2}, false},
		"any number at the server": {[]int64{3}, []int64{-1, -1}, true},
		"any number in a request":  {[]int64{-1}, []int64{-1, 4}, true},
		"one and four":             {nil, []int64{-1, 4}, false},
	} {
		s := Signature{Inputs: []Column{{Name: "x", Type: Number, Shape: c.column}}}
		reasons := s.Fits(Served{Inputs: []Tensor{{Name: "x", Datatype: "FP32", Shape: c.tensor}}})
		if (len(reasons) == 0) != c.fits {
			t.Errorf("%s: %v", name, reasons)
		}
	}
	// Columns side by side in one tensor, when it takes all of them.
	s := Signature{Inputs: []Column{{Name: "a", Type: Number}, {Name: "b", Type: Integer}}}
	for width, fits := range map[int64]bool{2: true, -1: true, 3: false} {
		features := Tensor{Name: "features", Datatype: "FP32", Shape: []int64{-1, width}}
		if reasons := s.Fits(Served{Inputs: []Tensor{features}}); (len(reasons) == 0) != fits {
			t.Errorf("%d wide: %v", width, reasons)
		}
	}
	s.Inputs = append(s.Inputs, Column{Name: "c", Type: Text})
	three := Tensor{Name: "features", Datatype: "FP32", Shape: []int64{-1, 3}}
	if reasons := s.Fits(Served{Inputs: []Tensor{three}}); len(reasons) == 0 {
		t.Error("a text among numbers")
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
			"a range that ends before it begins",
		},
		"shape": {Signature{Inputs: []Column{{Name: "x", Type: Number, Shape: []int64{0}}}}, "neither a size nor -1"},
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
		got := Cell{Kind: RawCell, Text: raw}.Read(false)
		if raw == "0x10" && got.Kind == NumberCell {
			continue // a hexadecimal number is one in Go's syntax
		}
		if got.Kind != want.Kind || got.Number != want.Number || (want.Kind == TextCell && got.Text != want.Text) {
			t.Errorf("%q reads as %+v, want %+v", raw, got, want)
		}
	}
	for raw, want := range map[string]string{"5": "5", "true": "true", " a ": "a"} {
		if got := (Cell{Kind: RawCell, Text: raw}).Read(true); got.Kind != TextCell || got.Text != want {
			t.Errorf("%q as text reads as %+v", raw, got)
		}
	}
	if got := (Cell{Kind: NumberCell, Number: 2.5}).Read(true); got.Text != "2.5" {
		t.Errorf("a number as text reads as %+v", got)
	}
}

func TestFits(t *testing.T) {
	sig := &Signature{
		Inputs:  []Column{{Name: "temp_c", Type: Number}, {Name: "hour", Type: Integer}},
		Outputs: []Column{{Name: "demand_mw", Type: Number}},
	}
	mix := &Signature{Inputs: []Column{{Name: "mix", Type: Text}}}
	out := []Tensor{{"demand_mw", "FP64", []int64{-1}}}
	cases := []struct {
		name    string
		sig     *Signature
		in, out []Tensor
		want    string
	}{
		{
			"column by column", sig,
			[]Tensor{{"temp_c", "FP32", []int64{-1}}, {"hour", "INT64", []int64{-1, 1}}},
			out,
			"",
		},
		{"integers as numbers", sig, []Tensor{{"temp_c", "FP64", []int64{-1}}, {"hour", "FP64", []int64{-1}}}, out, ""},
		{"packed", sig, []Tensor{{"rows", "FP64", []int64{-1, 2}}}, out, ""},
		{"packed, too wide", sig, []Tensor{{"rows", "FP64", []int64{-1, 5}}}, out, `no input "temp_c"`},
		{"missing input", sig, []Tensor{{"temp_c", "FP64", []int64{-1}}}, out, `no input "hour"`},
		{"extra input", sig, []Tensor{
			{"temp_c", "FP64", []int64{-1}},
			{"hour", "INT64", []int64{-1}},
			{"wind_ms", "FP64", []int64{-1}},
		}, out, `wants an input "wind_ms"`},
		{
			"numbers as integers", sig,
			[]Tensor{{"temp_c", "INT32", []int64{-1}}, {"hour", "INT64", []int64{-1}}},
			out,
			`"temp_c" is number in the signature and INT32`,
		},
		{
			"vector for a scalar", sig,
			[]Tensor{{"temp_c", "FP64", []int64{-1, 3}}, {"hour", "INT64", []int64{-1}}},
			out,
			`1 values in a row of the signature and 3`,
		},
		{
			"other output", sig,
			[]Tensor{{"temp_c", "FP64", []int64{-1}}, {"hour", "INT64", []int64{-1}}},
			[]Tensor{{"y", "FP64", []int64{-1}}},
			`no output "demand_mw"`,
		},
		{"text", mix, []Tensor{{"mix", "BYTES", []int64{-1}}}, nil, ""},
		{"text as number", mix, []Tensor{{"mix", "FP32", []int64{-1}}}, nil, `"mix" is text`},
	}
	for _, c := range cases {
		got := strings.Join(c.sig.Fits(Served{c.in, c.out}), "; ")
		if (c.want == "") != (got == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s: got %q, want %q", c.name, got, c.want)
		}
	}
}

// A number that is read the quick way is the number that it says.
func FuzzDecimal(f *testing.F) {
	for _, s := range []string{
		"0", "-12.345", ".5", "5.", "-", ".", "1e5", "999999999999999", "0.000000000000001",
		"-0",
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		x, ok := decimal(s)
		if !ok {
			return
		}
		if want, err := strconv.ParseFloat(s, 64); err != nil || math.Float64bits(x) != math.Float64bits(want) {
			t.Fatalf("%q reads as %v, want %v, %v", s, x, want, err)
		}
	})
}
