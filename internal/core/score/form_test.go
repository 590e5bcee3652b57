package score

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/signature"
)

func raw(texts ...string) []signature.Cell {
	out := make([]signature.Cell, len(texts))
	for i, t := range texts {
		out[i] = signature.Cell{Kind: signature.RawCell, Text: t}
	}
	return out
}

func TestBodiesOfRows(t *testing.T) {
	s := &signature.Signature{Inputs: []signature.Column{
		{Name: "table", Type: signature.Number, Datatype: "FP32", Shape: []int64{-1, 2}, Parts: []string{"a", "b"}},
		{Name: "hour", Type: signature.Integer, Datatype: "INT64", Shape: []int64{-1}},
		{Name: "mix", Type: signature.Text},
		{Name: "open", Type: signature.Boolean},
		{Name: "curve", Type: signature.Number, Shape: []int64{3}},
	}}
	columns := []string{"id", "mix", "b", "a", "hour", "open", "curve[0]", "curve[1]", "curve[2]"}
	f, err := NewForm(s, columns, nil)
	if err != nil {
		t.Fatal(err)
	}
	rows := [][]signature.Cell{
		raw("r1", "old \"town\"", "2", "1.50", "9007199254740993", "true", "1", "2e3", "+3"),
		raw("r2", "häfen", "-4", "", "-7", "0", ".5", "007", "3"),
	}
	body, fit := f.Fit(rows, columns, make([]string, len(rows)))
	var got, want any
	if err := json.Unmarshal(body, &got); err != nil || len(fit) != 2 {
		t.Fatalf("%v: %s", err, body)
	}
	text := `{"inputs":[
		{"name":"table","datatype":"FP32","shape":[2,2],"data":[1.5,2,null,-4]},
		{"name":"hour","datatype":"INT64","shape":[2],"data":[9007199254740993,-7]},
		{"name":"mix","datatype":"BYTES","shape":[2],"data":["old \"town\"","häfen"]},
		{"name":"open","datatype":"BOOL","shape":[2],"data":[true,false]},
		{"name":"curve","datatype":"FP64","shape":[2,3],"data":[1,2000,3,0.5,7,3]}]}`
	if err := json.Unmarshal([]byte(text), &want); err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, want) || !strings.Contains(string(body), "9007199254740993") {
		t.Errorf("%s", body)
	}
	if !slices.Equal(f.Kept, []string{"id"}) || string(f.AppendKept(nil, rows[0])) != `,"r1"` {
		t.Errorf("kept are %v, %s", f.Kept, f.AppendKept(nil, rows[0]))
	}
}

// What stands beside the answers is as it was in the table.
func TestNamesOfDigitsStay(t *testing.T) {
	for text, want := range map[string]string{
		"0042": `"0042"`, "+47": `"+47"`, "-007": `"-007"`, "42": "42", "0": "0", "-0.5": "-0.5", ".5": "0.5",
		"1e-05": "1e-05", "1.50": "1.50", "NA": "null", "": "null", "true": "true", `a "b"`: `"a \"b\""`,
		"1234567890123456": "1234567890123456", "123456789012345678901": `"123456789012345678901"`,
	} {
		if got := string(signature.AppendCell(nil, raw(text)[0])); got != want {
			t.Errorf("%s is written as %s, want %s", text, got, want)
		}
	}
}

func TestRowsThatDoNotFit(t *testing.T) {
	s := &signature.Signature{Inputs: []signature.Column{
		{Name: "x", Type: signature.Number},
		{Name: "n", Type: signature.Integer, Datatype: "UINT8", Shape: []int64{-1}},
		{Name: "yes", Type: signature.Boolean, Nullable: true},
	}}
	columns := []string{"x", "n", "yes"}
	f, err := NewForm(s, columns, nil)
	if err != nil {
		t.Fatal(err)
	}
	for row, why := range map[string]string{
		"1,2,true":   "",
		" 1.5 ,255,": "",
		",NA,null":   "",
		"warm,2,":    `x is "warm", not a number`,
		"true,2,":    "x is true, not a number",
		"1,256,":     "n is 256, not a whole number that it can hold",
		"1,-1,":      "n is -1, not a whole number that it can hold",
		"1,2.5,":     "n is 2.5, not a whole number that it can hold",
		"1,2,maybe":  `yes is "maybe", not true or false`,
	} {
		// Beside two that fit, which are asked all the same.
		rows := [][]signature.Cell{raw("1", "2", "true"), raw(strings.Split(row, ",")...), raw("3", "4", "false")}
		reasons := make([]string, 3)
		body, fit := f.Fit(rows, columns, reasons)
		if reasons[1] != why || reasons[0]+reasons[2] != "" || why != "" && (!slices.Equal(fit, []int{0, 2}) ||
			!strings.Contains(string(body), `"data":[1,3]`) || !strings.Contains(string(body), `"data":[true,false]`)) {
			t.Errorf("%s: %q, want %q; %s", row, reasons, why, body)
		}
	}
}

func TestTablesThatDoNotFit(t *testing.T) {
	number := func(name string) signature.Column { return signature.Column{Name: name, Type: signature.Number} }
	for _, c := range []struct {
		inputs        []signature.Column
		columns, keep []string
		want          string
	}{
		{nil, []string{"a"}, nil, "no signature"},
		{[]signature.Column{number("a"), number("b")}, []string{"a", "c"}, nil, "no column b"},
		{[]signature.Column{number("a")}, []string{"a"}, []string{"id"}, "no column id"},
		{[]signature.Column{{Name: "w", Type: signature.Number, Shape: []int64{-1}}}, nil, nil, "of a table"},
		{[]signature.Column{{Name: "w", Type: signature.Number, Shape: []int64{300, 300}}}, nil, nil, "of a table"},
		{[]signature.Column{{Name: "w", Within: []signature.Container{{Kind: signature.Map}}}}, nil, nil, "of a table"},
	} {
		_, err := NewForm(&signature.Signature{Inputs: c.inputs}, c.columns, c.keep)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v of %v: %v, want %q", c.inputs, c.columns, err, c.want)
		}
	}
	columns := []string{"a"}
	optional := number("b")
	optional.Nullable = true
	f, err := NewForm(&signature.Signature{Inputs: []signature.Column{number("a"), optional}}, columns, nil)
	if err != nil || strings.Contains(string(f.message([][]byte{nil}, 0)), `"b"`) {
		t.Errorf("%v", err)
	}
	fixed := signature.Column{Name: "a", Type: signature.Number, Datatype: "FP64", Shape: []int64{1, 1}}
	f, err = NewForm(&signature.Signature{Inputs: []signature.Column{fixed}}, columns, nil)
	if err != nil || !f.Alone {
		t.Errorf("%+v, %v", f, err)
	}
}

func TestPace(t *testing.T) {
	for _, bad := range [][2]int{{0, 1}, {MostBatch + 1, 1}, {1, 0}, {1, MostParallel + 1}} {
		if CheckPace(bad[0], bad[1]) == nil {
			t.Errorf("%v is taken", bad)
		}
	}
	if err := CheckPace(UsualBatch, UsualParallel); err != nil {
		t.Error(err)
	}
}
