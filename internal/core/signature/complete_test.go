package signature

import "testing"

// What a file declares makes rows exact only where it speaks of the same columns.
func TestAFileTellsTheTypesOfItsRows(t *testing.T) {
	low, high := 1.0, 5.0
	rows := &Signature{
		Inputs: []Column{
			{Name: "temp", Type: Number, Min: &low, Max: &high},
			{Name: "mix", Type: Text, Levels: []string{"works"}},
		},
		Outputs: []Column{{Name: "y", Type: Number, Unit: "MW"}},
	}
	exact := func(name, datatype string) Column {
		family, _ := TypeOf(datatype)
		return Column{Name: name, Type: family, Datatype: datatype, Shape: []int64{-1, 1}}
	}
	file := &Signature{
		Inputs: []Column{exact("temp", "FP32"), exact("mix", "BYTES")}, Outputs: []Column{exact("y", "FP64")},
	}
	got := rows.TypedBy(file)
	if x := got.Inputs[0]; x.Datatype != "FP32" || x.Min != &low || got.Inputs[1].Levels[0] != "works" ||
		got.Outputs[0].Datatype != "FP64" || got.Outputs[0].Unit != "MW" {
		t.Errorf("%+v", got)
	}
	for name, other := range map[string]*Signature{
		"none":            nil,
		"other inputs":    {Inputs: []Column{exact("terms", "FP32")}, Outputs: file.Outputs},
		"another output":  {Inputs: file.Inputs, Outputs: []Column{exact("variable", "FP32")}},
		"no inputs there": {Outputs: file.Outputs},
	} {
		if got := rows.TypedBy(other); got != rows {
			t.Errorf("%s: %+v", name, got)
		}
	}
}
