package oip

import "innerladder/internal/core/sketch"

// Outputs takes an answer apart into its outputs, of which so many rows are looked at.
func Outputs(answer []byte, most int) ([]sketch.Output, error) {
	tensors, err := Tensors(answer, "outputs")
	if err != nil {
		return nil, err
	}
	out := make([]sketch.Output, len(tensors))
	for i := range tensors {
		t := &tensors[i]
		o := sketch.Output{Name: t.Name, Rows: t.Rows(), Data: t.Data, Whole: wholeTypes[t.Datatype]}
		if o.Rows > most {
			o.Data = o.Data[:len(o.Data)/o.Rows*most]
			o.Rows = most
		}
		out[i] = o
	}
	return out, nil
}

// wholeTypes are the datatypes of whole numbers.
var wholeTypes = map[string]bool{
	"INT8": true, "INT16": true, "INT32": true, "INT64": true,
	"UINT8": true, "UINT16": true, "UINT32": true, "UINT64": true,
}
