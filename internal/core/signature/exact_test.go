package signature

import (
	"encoding/json"
	"strings"
	"testing"
)

func tensor(datatype string, shape ...int64) Column {
	family, _ := TypeOf(datatype)
	return Column{Name: "x", Type: family, Datatype: datatype, Shape: shape}
}

func within(c Column, containers ...Container) Column {
	c.Within = containers
	return c
}

// What a change of an exact type means to whoever calls.
func TestWhatAChangedTensorMeans(t *testing.T) {
	optional, sequence := Container{Kind: Optional}, Container{Kind: Sequence}
	open := tensor("FP32")
	open.AnyShape = true
	named := tensor("FP32", -1, 3)
	named.Axes = []string{"batch", ""}
	parts := tensor("FP32", -1, 2)
	parts.Parts = []string{"a", "b"}
	swapped := tensor("FP32", -1, 2)
	swapped.Parts = []string{"b", "a"}
	for name, c := range map[string]struct {
		from, to      Column
		input, output Compatibility
	}{
		"the same":                  {tensor("FP32", -1, 3), tensor("FP32", -1, 3), Compatible, Compatible},
		"another precision":         {tensor("FP32", -1), tensor("FP64", -1), Breaking, Breaking},
		"another integer":           {tensor("INT32", -1), tensor("INT64", -1), Breaking, Breaking},
		"a dimension is named":      {tensor("FP32", -1, 3), named, Compatible, Compatible},
		"a first dimension is lost": {tensor("FP32", 4, 3), tensor("FP32", 2, 3), Breaking, Breaking},
		"a dimension opens":         {tensor("FP32", -1, 3), tensor("FP32", -1, -1), Widened, Breaking},
		"a dimension is fixed":      {tensor("FP32", -1, -1), tensor("FP32", -1, 3), Breaking, Widened},
		"another rank":              {tensor("FP32", -1), tensor("FP32", -1, 1), Breaking, Breaking},
		"any rank":                  {tensor("FP32", -1), open, Widened, Breaking},
		"a rank is fixed":           {open, tensor("FP32", -1), Breaking, Widened},
		"may be left out":           {tensor("FP32", -1), within(tensor("FP32", -1), optional), Widened, Breaking},
		"must be there":             {within(tensor("FP32", -1), optional), tensor("FP32", -1), Breaking, Widened},
		"a sequence":                {tensor("FP32", -1), within(tensor("FP32", -1), sequence), Breaking, Breaking},
		"places are swapped":        {parts, swapped, Breaking, Breaking},
		"types become known":        {Column{Name: "x", Type: Number}, tensor("FP32", -1, 1), Compatible, Compatible},
		"types, of another width":   {Column{Name: "x", Type: Number}, tensor("FP32", -1, 2), Breaking, Breaking},
	} {
		if _, got := Diff(&Signature{Inputs: []Column{c.from}}, &Signature{Inputs: []Column{c.to}}); got != c.input {
			t.Errorf("%s, an input: %s, want %s", name, got, c.input)
		}
		if _, got := Diff(&Signature{Outputs: []Column{c.from}}, &Signature{Outputs: []Column{c.to}}); got != c.output {
			t.Errorf("%s, an output: %s, want %s", name, got, c.output)
		}
	}
	// Who asks for one row gets one row, also where more could be asked for.
	one := &Signature{Inputs: []Column{tensor("FP32", 1, 3)}, Outputs: []Column{tensor("FP32", 1, 2)}}
	any := &Signature{Inputs: []Column{tensor("FP32", -1, 3)}, Outputs: []Column{tensor("FP32", -1, 2)}}
	if _, got := Diff(one, any); got != Widened {
		t.Errorf("any number of rows: %s", got)
	}
	if _, got := Diff(any, one); got != Breaking {
		t.Errorf("one row only: %s", got)
	}
}

// A server must take what callers send, exactly.
func TestExactTypesAtTheServer(t *testing.T) {
	side := func(datatype string, shape ...int64) []Tensor { return []Tensor{{"x", datatype, shape}} }
	optional := within(tensor("FP32", -1), Container{Kind: Optional})
	for name, c := range map[string]struct {
		column Column
		served []Tensor
		input  string
		output string
	}{
		"the same":                {tensor("FP32", -1, 3), side("FP32", -1, 3), "", ""},
		"another precision":       {tensor("FP32", -1), side("FP64", -1), "FP32 [any]", "FP64 at the server"},
		"another size":            {tensor("FP32", 1, 3), side("FP32", 1, 4), "[1, 4] at", "[1, 4] at"},
		"one row only":            {tensor("FP32", -1, 3), side("FP32", 1, 3), "[1, 3] at", ""},
		"more rows than promised": {tensor("FP32", 1, 3), side("FP32", -1, 3), "", ""},
		"another rank":            {tensor("FP32", -1), side("FP32", -1, 1), "[any, 1] at", "[any, 1] at"},
		"a sequence, in any form": {within(tensor("FP32"), Container{Kind: Sequence}), side("BYTES", 1), "", ""},
		"left out":                {optional, nil, "", "declares no output"},
	} {
		in := strings.Join((&Signature{Inputs: []Column{c.column}}).Fits(Served{Inputs: c.served}), "; ")
		out := strings.Join((&Signature{Outputs: []Column{c.column}}).Fits(Served{Outputs: c.served}), "; ")
		if (c.input == "") != (in == "") || !strings.Contains(in, c.input) {
			t.Errorf("%s, an input: %q", name, in)
		}
		if (c.output == "") != (out == "") || !strings.Contains(out, c.output) {
			t.Errorf("%s, an output: %q", name, out)
		}
	}
}

// What rows leave open, the server says; the sample is made of that.
func TestTheSampleIsOfExactTypes(t *testing.T) {
	rows := &Signature{
		Inputs:  []Column{{Name: "temp_c", Type: Number, Unit: "°C"}, {Name: "hour", Type: Integer}},
		Outputs: []Column{{Name: "y", Type: Number}},
	}
	earlier := json.RawMessage(`{"inputs":[{"name":"temp_c","shape":[1],"datatype":"FP64","data":[-3.5]},` +
		`{"name":"hour","shape":[1],"datatype":"INT64","data":[7]}]}`)
	for name, c := range map[string]struct {
		served Served
		want   string
	}{
		"column by column": {
			Served{Inputs: []Tensor{{"temp_c", "FP32", []int64{-1, 1}}, {"hour", "INT64", []int64{-1}}}},
			`{"inputs":[{"name":"temp_c","shape":[1,1],"datatype":"FP32","data":[-3.5]},` +
				`{"name":"hour","shape":[1],"datatype":"INT64","data":[7]}]}`,
		},
		"side by side": {
			Served{Inputs: []Tensor{{"rows", "FP32", []int64{-1, 2}}}},
			`{"inputs":[{"name":"rows","shape":[1,2],"datatype":"FP32","data":[-3.5,7]}]}`,
		},
		"side by side, as wide as it must be": {
			Served{Inputs: []Tensor{{"rows", "FP32", []int64{-1, -1}}}},
			`{"inputs":[{"name":"rows","shape":[1,2],"datatype":"FP32","data":[-3.5,7]}]}`,
		},
		"as it was": {
			Served{Inputs: []Tensor{{"temp_c", "FP64", []int64{-1}}, {"hour", "INT64", []int64{-1}}}}, string(earlier),
		},
	} {
		exact := rows.Exactly(c.served)
		if got := string(exact.SampleAfter(earlier)); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
		if !strings.Contains(name, "side") && exact.Inputs[0].Unit != "°C" {
			t.Errorf("%s: the unit is lost: %+v", name, exact.Inputs[0])
		}
	}
	wide := &Signature{Inputs: []Column{{Name: "a", Type: Number, Shape: []int64{2}}, {Name: "b", Type: Number}}}
	packed := wide.Exactly(Served{Inputs: []Tensor{{"rows", "FP32", []int64{-1, 3}}}})
	if got := strings.Join(packed.Inputs[0].Parts, " "); got != "a[0] a[1] b" {
		t.Errorf("what stands side by side: %s", got)
	}
	small := &Signature{Inputs: []Column{tensor("UINT8", 2)}}
	if got := string(small.SampleRequest(func(string) Cell { return Cell{Kind: NumberCell, Number: 1e9} })); got !=
		`{"inputs":[{"name":"x","shape":[2],"datatype":"UINT8","data":[255,255]}]}` {
		t.Errorf("a byte: %s", got)
	}
	if got := (&Signature{Inputs: []Column{within(tensor("FP32"), Container{Kind: Sequence})}}).
		SampleRequest(nil); got !=
		nil {
		t.Errorf("a sequence, which the protocol has not: %s", got)
	}
}

// Answers must be as promised.
func TestAnswersAreHeldAgainstTheSignature(t *testing.T) {
	s := &Signature{Outputs: []Column{tensor("FP32", -1, 2)}}
	for says, answer := range map[string][]Tensor{
		"":                                 {{"x", "FP32", []int64{1, 2}}, {"more", "BYTES", []int64{1}}},
		`the answer has no output "x"`:     {{"y", "FP32", []int64{1, 2}}},
		`output "x" of the answer is FP64`: {{"x", "FP64", []int64{1, 2}}},
		`has the shape [1 3]`:              {{"x", "FP32", []int64{1, 3}}},
	} {
		if got := strings.Join(s.Answered(answer), "; "); (says == "") != (got == "") || !strings.Contains(got, says) {
			t.Errorf("got %q, want %q", got, says)
		}
	}
}
