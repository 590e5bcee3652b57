package signature

import (
	"bytes"
	"encoding/json"
	"math"
	"slices"
)

// mostSampleValues is the most values of one tensor of a sample request.
const mostSampleValues = 4096

// datatype is how a column is sent in the Open Inference Protocol: exactly as declared, else as
// the widest of its family.
func (c Column) datatype() string {
	if c.Datatype != "" {
		return c.Datatype
	}
	switch c.Type {
	case Integer:
		return "INT64"
	case Boolean:
		return "BOOL"
	case Text:
		return "BYTES"
	}
	return "FP64"
}

// sampleShape is the shape that a sample of one row has: dimensions of any size are 1.
func (c Column) sampleShape() []int64 {
	shape := []int64{}
	if c.Datatype == "" || c.AnyShape {
		shape = append(shape, 1) // the row
	}
	for _, d := range c.Shape {
		if d < 0 {
			d = 1
		}
		shape = append(shape, d)
	}
	if n := len(c.Parts); n > 0 && len(shape) > 0 {
		shape[len(shape)-1] = int64(n) // as wide as what stands side by side, also where it is open
	}
	return shape
}

// SampleRequest is a request in the Open Inference Protocol (HTTP and JSON) that a
// model with this signature can answer: one row, of the exact types and shapes, with values from
// the rows seen where there are some, else from the ranges and levels that are known. Seen is the
// value of a column in one of those rows, or the zero Cell; nil when there are no rows. It is nil
// when the protocol cannot carry what the model takes, or it would be too large to be of use.
func (s *Signature) SampleRequest(seen func(column string) Cell) json.RawMessage {
	return s.request(func(c Column) any { return c.example(seen) })
}

// Request is a request of one row with given values: one by column, or a list of them for a
// column that holds several; nil is a value that is missing. It is nil when the protocol cannot
// carry it, or the row is not as wide as the column.
func (s *Signature) Request(value func(column string) any) json.RawMessage {
	return s.request(func(c Column) any { return value(c.Name) })
}

func (s *Signature) request(value func(Column) any) json.RawMessage {
	type tensor struct {
		Name     string  `json:"name"`
		Shape    []int64 `json:"shape"`
		Datatype string  `json:"datatype"`
		Data     []any   `json:"data"`
	}
	inputs := []tensor{}
	for _, c := range s.Inputs {
		if !c.plain() {
			if c.optional() {
				continue
			}
			return nil
		}
		t := tensor{Name: c.Name, Shape: c.sampleShape(), Datatype: c.datatype(), Data: []any{}}
		values := 1
		for _, d := range t.Shape {
			values = int(min(int64(values)*d, mostSampleValues+1))
		}
		if values > mostSampleValues {
			return nil
		}
		for i := range values {
			v := value(c.part(i))
			if of, several := v.([]any); several && len(c.Parts) == 0 {
				if len(of) != values {
					return nil
				}
				v = of[i]
			}
			t.Data = append(t.Data, v)
		}
		inputs = append(inputs, t)
	}
	if len(inputs) == 0 {
		return nil
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if enc.Encode(map[string]any{"inputs": inputs}) != nil {
		return nil // not finite, which example never gives
	}
	return bytes.TrimSpace(b.Bytes())
}

// Halves reports whether some input has 16-bit floats, which JSON has no exact form for: many
// servers take them in binary form only, so that a refusal of a request in JSON says nothing.
func (s *Signature) Halves() bool {
	return slices.ContainsFunc(s.Inputs, func(c Column) bool { return c.Datatype == "FP16" || c.Datatype == "BF16" })
}

// SampleAfter is the sample request of an exact signature with the values of an earlier sample of
// the same version, which was made when less was known of its types; that sample itself where
// nothing was open.
func (s *Signature) SampleAfter(sample json.RawMessage) json.RawMessage {
	var earlier struct {
		Inputs []struct {
			Name     string
			Datatype string
			Shape    []int64
			Data     []any
		}
	}
	if len(sample) == 0 || json.Unmarshal(sample, &earlier) != nil {
		return s.SampleRequest(nil)
	}
	seen, same := map[string]Cell{}, len(earlier.Inputs) == len(s.Inputs)
	for i, in := range earlier.Inputs {
		same = same && s.Inputs[i].Name == in.Name && s.Inputs[i].datatype() == in.Datatype &&
			slices.Equal(s.Inputs[i].sampleShape(), in.Shape)
		if len(in.Data) == 0 {
			continue
		}
		switch x := in.Data[0].(type) {
		case float64:
			seen[in.Name] = Cell{Kind: NumberCell, Number: x}
		case string:
			seen[in.Name] = Cell{Kind: TextCell, Text: x}
		case bool:
			seen[in.Name] = Cell{Kind: BooleanCell}
			if x {
				seen[in.Name] = Cell{Kind: BooleanCell, Number: 1}
			}
		}
	}
	if same {
		return sample
	}
	return s.SampleRequest(func(name string) Cell { return seen[name] })
}

// part is the column whose value stands at a place of the tensor: the column itself, or what
// stands there side by side with others.
func (c Column) part(i int) Column {
	if len(c.Parts) == 0 {
		return c
	}
	return Column{Name: c.Parts[i%len(c.Parts)], Type: c.Type, Datatype: c.Datatype}
}

// example is a value that the column can take.
func (c Column) example(of func(column string) Cell) any {
	var seen Cell
	if of != nil {
		seen = of(c.Name)
	}
	switch c.Type {
	case Boolean:
		return seen.Kind == BooleanCell && seen.Number == 1
	case Text:
		switch {
		case seen.Kind == TextCell:
			return seen.Text
		case len(c.Levels) > 0:
			return c.Levels[0]
		}
		return ""
	}
	x := 0.0
	switch {
	case seen.Kind == NumberCell:
		x = seen.Number
	case c.Min != nil && c.Max != nil:
		x = *c.Min + (*c.Max-*c.Min)/2
	case c.Min != nil:
		x = *c.Min
	case c.Max != nil:
		x = *c.Max
	}
	if math.IsInf(x, 0) || math.IsNaN(x) {
		x = 0
	}
	low, high := bounds(c.datatype())
	x = math.Max(low, math.Min(high, x))
	if c.Type == Integer {
		return int64(x)
	}
	return x
}

// exactInteger is the largest integer up to which JSON's numbers are exact everywhere.
const exactInteger = 1 << 53

// bounds are the least and the largest value of a datatype that can be written in JSON without
// loss.
func bounds(datatype string) (low, high float64) {
	switch datatype {
	case "INT8":
		return math.MinInt8, math.MaxInt8
	case "INT16":
		return math.MinInt16, math.MaxInt16
	case "INT32":
		return math.MinInt32, math.MaxInt32
	case "UINT8":
		return 0, math.MaxUint8
	case "UINT16":
		return 0, math.MaxUint16
	case "UINT32":
		return 0, math.MaxUint32
	case "UINT64":
		return 0, exactInteger
	case "FP16":
		return -65504, 65504
	case "FP32":
		return -math.MaxFloat32, math.MaxFloat32
	case "BF16":
		return -3.38e38, 3.38e38
	case "FP64":
		return -math.MaxFloat64, math.MaxFloat64
	}
	return -exactInteger, exactInteger
}
