package request

import (
	"encoding/json"
)

// Row is one row of a request: what was asked, and what was answered. Only columns that have one value for each row
// are in it.
type Row struct{ Inputs, Outputs map[string]any }

// RowsOf takes what is kept of a request apart into its rows, as far as it can be: nothing where neither side tells
// how many there are.
func RowsOf(e *Kept) []Row {
	var asked, answered message
	_ = json.Unmarshal(e.Request, &asked)
	_ = json.Unmarshal(e.Answer, &answered)
	n := rowsIn(asked.Inputs)
	if n == 0 {
		n = rowsIn(answered.Outputs)
	}
	out := make([]Row, n)
	for i := range out {
		out[i] = Row{Inputs: map[string]any{}, Outputs: map[string]any{}}
	}
	for _, t := range asked.Inputs {
		for i, v := range t.each(n) {
			out[i].Inputs[t.Name] = v
		}
	}
	for _, t := range answered.Outputs {
		for i, v := range t.each(n) {
			out[i].Outputs[t.Name] = v
		}
	}
	return out
}

// each are the values of a tensor where it has one for each of so many rows, and else none.
func (t *tensor) each(rows int) []any {
	if values := t.values(); len(values) == rows {
		return values
	}
	return nil
}

// values are those of a tensor, row after row; none where they cannot be read.
func (t *tensor) values() []any {
	var data any
	if json.Unmarshal(t.Data, &data) != nil {
		return nil
	}
	return flat(nil, data)
}

// mostRows bounds how many rows of a request are taken apart.
const mostRows = 100_000

// rowsIn is how many rows tensors have: their first dimension, when it is the same for all; 1 for those without any.
func rowsIn(tensors []tensor) int {
	n := -1
	for _, t := range tensors {
		rows := int64(1)
		if len(t.Shape) > 0 {
			rows = t.Shape[0]
		}
		if rows < 0 || rows > mostRows || n >= 0 && int64(n) != rows {
			return 0
		}
		n = int(rows)
	}
	return max(0, n)
}
