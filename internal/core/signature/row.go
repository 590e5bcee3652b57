package signature

import (
	"encoding/json"
	"fmt"
	"slices"
)

// Row is a request of one row in the Open Inference Protocol, taken apart, so that it can be changed and rows can be
// put together.
type Row struct {
	Inputs []RowInput `json:"inputs"`
}

// RowInput is what a row has for one input; its values are as they stand in JSON.
type RowInput struct {
	Name     string            `json:"name"`
	Shape    []int64           `json:"shape"`
	Datatype string            `json:"datatype"`
	Data     []json.RawMessage `json:"data"`
}

// TakeApart takes a request of one row apart, whose values stand in flat lists.
func TakeApart(request json.RawMessage) (Row, error) {
	var r Row
	if err := json.Unmarshal(request, &r); err != nil {
		return r, err
	}
	if len(r.Inputs) == 0 {
		return r, fmt.Errorf("it has no inputs")
	}
	for _, in := range r.Inputs {
		values := int64(1)
		for _, d := range in.Shape[min(1, len(in.Shape)):] {
			values *= d
		}
		if len(in.Data) == 0 || int64(len(in.Data)) != values || len(in.Shape) > 0 && in.Shape[0] != 1 {
			return r, fmt.Errorf("input %s has not the values of one row", in.Name)
		}
	}
	return r, nil
}

// Input is the place of an input in the row, −1 where it has none of that name.
func (r Row) Input(name string) int {
	return slices.IndexFunc(r.Inputs, func(in RowInput) bool { return in.Name == name })
}

// With is the row with another value in place of each that an input has; as is handed each of them.
func (r Row) With(name string, as func(json.RawMessage) json.RawMessage) Row {
	out := Row{slices.Clone(r.Inputs)}
	if i := r.Input(name); i >= 0 {
		data := slices.Clone(out.Inputs[i].Data)
		for k := range data {
			data[k] = as(data[k])
		}
		out.Inputs[i].Data = data
	}
	return out
}

// Without is the row without an input.
func (r Row) Without(name string) Row {
	return Row{slices.DeleteFunc(slices.Clone(r.Inputs), func(in RowInput) bool { return in.Name == name })}
}

// Together is one request of several rows, all with the inputs of the first.
func Together(rows []Row) json.RawMessage {
	t := Row{slices.Clone(rows[0].Inputs)}
	for i := range t.Inputs {
		in := &t.Inputs[i]
		in.Shape = slices.Clone(in.Shape)
		if len(in.Shape) > 0 {
			in.Shape[0] = int64(len(rows))
		}
		in.Data = make([]json.RawMessage, 0, len(rows)*len(in.Data))
		for _, r := range rows {
			in.Data = append(in.Data, r.Inputs[i].Data...)
		}
	}
	out, err := json.Marshal(t)
	if err != nil {
		return nil // its values were read as JSON
	}
	return out
}
