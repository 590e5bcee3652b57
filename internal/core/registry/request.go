package registry

import (
	"bytes"
	"encoding/json"
	"math"
	"slices"
)

// datatype is how a column is sent in the Open Inference Protocol.
func (c Column) datatype() string {
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

// SampleRequest is a request in the Open Inference Protocol (HTTP and JSON) that a
// model with this signature can answer: one row, from the rows seen where there are
// some, else from the ranges and levels that are known.
func (s *Signature) SampleRequest(p *Profiler) json.RawMessage {
	type tensor struct {
		Name     string  `json:"name"`
		Shape    []int64 `json:"shape"`
		Datatype string  `json:"datatype"`
		Data     []any   `json:"data"`
	}
	inputs := []tensor{}
	for _, c := range s.Inputs {
		t := tensor{Name: c.Name, Shape: []int64{1}, Datatype: c.datatype()}
		values := 1
		for _, d := range c.Shape {
			if d < 1 {
				d = 1 // any size: the smallest
			}
			t.Shape = append(t.Shape, d)
			values = int(min(int64(values)*d, mostSampleValues+1))
		}
		if values > mostSampleValues {
			return nil // a request too large to be of use as a sample
		}
		v := c.example(p)
		for range values {
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

// mostSampleValues is the most values of one tensor of a sample request.
const mostSampleValues = 4096

// example is a value that the column can take.
func (c Column) example(p *Profiler) any {
	var seen Cell
	if p != nil && len(p.first) > 0 {
		if i := slices.Index(p.names, c.Name); i >= 0 && i < len(p.first[0]) {
			seen = p.first[0][i]
		}
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
	if c.Type == Integer {
		return int64(math.Max(math.Min(x, 1<<53), -1<<53))
	}
	if math.IsInf(x, 0) || math.IsNaN(x) {
		x = 0
	}
	return x
}
