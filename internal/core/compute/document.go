package compute

import (
	"fmt"
	"math"

	"innerladder/internal/core/pmml"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/tensor"
)

// ofDocument is a model of a PMML document, which computes row by row.
func ofDocument(d *pmml.Model) *Model {
	m := &Model{Rows: true}
	side := func(fields []pmml.Field) []signature.Tensor {
		out := make([]signature.Tensor, len(fields))
		for i, f := range fields {
			out[i] = signature.Tensor{Name: f.Name, Datatype: f.Datatype, Shape: []int64{-1}}
		}
		return out
	}
	m.Served = signature.Served{Inputs: side(d.Inputs), Outputs: side(d.Outputs)}
	m.run = func(in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		rows := 1
		if len(in) > 0 {
			rows = in[0].Len()
		}
		columns := make([][]pmml.Value, len(in))
		for i, t := range in {
			var err error
			if columns[i], err = valuesOf(t); err != nil {
				return nil, err
			}
			if len(columns[i]) != rows {
				return nil, fmt.Errorf("input %q has %d rows, %q has %d", d.Inputs[i].Name, len(columns[i]),
					d.Inputs[0].Name, rows)
			}
		}
		given := make([][]pmml.Value, rows)
		row := make([]pmml.Value, len(in))
		for r := range rows {
			for i := range columns {
				row[i] = columns[i][r]
			}
			var err error
			if given[r], err = d.Score(row); err != nil {
				return nil, fmt.Errorf("row %d: %w", r+1, err)
			}
		}
		out := make([]*tensor.Tensor, len(d.Outputs))
		for i, f := range d.Outputs {
			var err error
			if out[i], err = column(given, i, f); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return m
}

// valuesOf are the values of a column; a number that is none and an empty text are missing.
func valuesOf(t *tensor.Tensor) ([]pmml.Value, error) {
	out := make([]pmml.Value, t.Len())
	if x, text := t.Data.([]string); text {
		for i, v := range x {
			if v != "" {
				out[i] = pmml.Text(v)
			}
		}
		return out, nil
	}
	x, err := t.Floats()
	for i, v := range x {
		out[i] = pmml.Number(v)
	}
	return out, err
}

// column is one output of all rows. Where the document defines no answer a number is none and a text empty; whole
// numbers have no such value.
func column(given [][]pmml.Value, i int, f pmml.Field) (*tensor.Tensor, error) {
	if f.Datatype == "BYTES" {
		out := make([]string, len(given))
		for r, row := range given {
			out[r] = row[i].String()
		}
		return tensor.New(out, len(out)), nil
	}
	out := make([]float64, len(given))
	for r, row := range given {
		x, err := math.NaN(), error(nil)
		switch {
		case row[i].Missing() && f.Datatype != "FP64":
			err = fmt.Errorf("row %d: the document defines no %s for it", r+1, f.Name)
		case row[i].IsText():
			err = fmt.Errorf("row %d: %s is the text %.40q", r+1, f.Name, row[i].Text)
		case !row[i].Missing():
			x = row[i].Number
		}
		if err != nil {
			return nil, err
		}
		out[r] = x
	}
	return tensor.New(out, len(out)).As(f.Datatype)
}
