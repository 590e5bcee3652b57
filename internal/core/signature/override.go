package signature

import (
	"bytes"
	"encoding/json"
	"math"
	"strings"

	"innerladder/internal/core/fault"
)

// Override is a request with other values for some inputs: one for all that its tensor holds, or a list of as many.
// Texts are read as what the input takes, so that what somebody types serves. An input that there is not, and a value
// that it does not take, are refused.
func (s *Signature) Override(request json.RawMessage, values map[string]any) (json.RawMessage, error) {
	var r struct {
		Inputs []struct {
			Name     string  `json:"name"`
			Shape    []int64 `json:"shape"`
			Datatype string  `json:"datatype"`
			Data     []any   `json:"data"`
		} `json:"inputs"`
	}
	if err := json.Unmarshal(request, &r); err != nil {
		return nil, fault.New(fault.Invalid, "try.request", "the request is none: %v", err).In("request").
			Do("give one of the Open Inference Protocol, in JSON")
	}
	for name, value := range values {
		c := s.Input(name)
		at := -1
		for k, in := range r.Inputs {
			if in.Name == name {
				at = k
			}
		}
		if c == nil || at < 0 {
			return nil, fault.New(fault.Invalid, "try.input", "there is no input %.100q", name).In("inputs").
				Do("name one of %s", strings.Join(Names(s.Inputs), ", "))
		}
		in := &r.Inputs[at]
		list, several := value.([]any)
		if !several {
			list = make([]any, len(in.Data))
			for k := range list {
				list[k] = value
			}
		}
		if len(list) != len(in.Data) {
			return nil, fault.New(fault.Invalid, "try.values", "input %q has %d values, and %d are given", name,
				len(in.Data), len(list)).In("inputs." + name).Do("give one, or as many as it has")
		}
		for k, v := range list {
			x, ok := c.typed(v)
			if !ok {
				return nil, fault.New(fault.Invalid, "try.value", "%.60v is no value of %q", v, name).
					In("inputs."+name).Do("give %s", c.TypeText())
			}
			in.Data[k] = x
		}
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(r)
	return bytes.TrimSpace(b.Bytes()), err
}

// typed is a value as a column takes it, where it can be read as one.
func (c Column) typed(v any) (any, bool) {
	if text, is := v.(string); is && c.Type != Text {
		switch c.Type {
		case Boolean:
			v = text == "true"
			if text != "true" && text != "false" {
				return nil, false
			}
		default:
			x, ok := decimal(strings.TrimSpace(text))
			if !ok {
				return nil, false
			}
			v = x
		}
	}
	low, high := math.Inf(-1), math.Inf(1)
	if c.Type == Integer {
		low, high = bounds(c.datatype())
	}
	return v, isOf(c.Type, v, low, high)
}
