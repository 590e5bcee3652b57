package registry

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/sketch"
)

const (
	// mostSampleRows is how many rows of a sample are read; more do not change what is
	// read off it.
	mostSampleRows = 200_000
	// leastProfileRows is the least number of rows that make a reference profile.
	leastProfileRows = 200
)

// Sample is a table of example rows. A cell is a float64, a bool, a string, or nil
// where the value is missing.
type Sample struct {
	Columns []string
	Rows    [][]any
}

func badSample(detail string, args ...any) *fault.Fault {
	return fault.New(fault.Invalid, "sample.unreadable", detail, args...).In("sample").
		Do("give a CSV file with a header line, or JSON: a list of objects, or one object a line")
}

// ReadSample reads a sample from CSV with a header line, or from JSON; name tells the
// two apart and is used in errors.
func ReadSample(name string, r io.Reader) (*Sample, error) {
	var s *Sample
	var err error
	if strings.HasSuffix(strings.ToLower(name), ".json") || strings.HasSuffix(strings.ToLower(name), ".jsonl") {
		s, err = readJSON(name, bufio.NewReader(r))
	} else {
		s, err = readCSV(name, r)
	}
	if err != nil {
		return nil, err
	}
	if len(s.Rows) == 0 {
		return nil, badSample("%s holds no rows", name)
	}
	return s, nil
}

func readCSV(name string, r io.Reader) (*Sample, error) {
	in := csv.NewReader(r)
	in.ReuseRecord = true
	header, err := in.Read()
	if errors.Is(err, io.EOF) {
		return nil, badSample("%s is empty", name)
	}
	if err != nil {
		return nil, badSample("%s: %v", name, err)
	}
	s := &Sample{}
	for _, h := range header {
		s.Columns = append(s.Columns, strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
	}
	if err := s.checkColumns(name); err != nil {
		return nil, err
	}
	for len(s.Rows) < mostSampleRows {
		record, err := in.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, badSample("%s: %v", name, err)
		}
		row := make([]any, len(record))
		for i, cell := range record {
			row[i] = readCell(strings.TrimSpace(cell))
		}
		s.Rows = append(s.Rows, row)
	}
	return s, nil
}

func readCell(cell string) any {
	switch strings.ToLower(cell) {
	case "", "na", "nan", "null":
		return nil
	case "true":
		return true
	case "false":
		return false
	}
	if x, err := strconv.ParseFloat(cell, 64); err == nil && !math.IsInf(x, 0) {
		return x
	}
	return strings.Clone(cell)
}

func readJSON(name string, r *bufio.Reader) (*Sample, error) {
	dec := json.NewDecoder(r)
	inList := false
	if first, err := firstByte(r); err == nil && first == '[' {
		inList = true
		if _, err := dec.Token(); err != nil {
			return nil, badSample("%s: %v", name, err)
		}
	}
	s := &Sample{}
	position := map[string]int{}
	for len(s.Rows) < mostSampleRows {
		if inList && !dec.More() {
			break
		}
		var object map[string]any
		err := dec.Decode(&object)
		if errors.Is(err, io.EOF) && !inList {
			break
		}
		if err != nil {
			return nil, badSample("%s, row %d: %v", name, len(s.Rows)+1, err)
		}
		for _, key := range sortedKeys(object) {
			if _, known := position[key]; !known {
				position[key] = len(s.Columns)
				s.Columns = append(s.Columns, key)
			}
		}
		row := make([]any, len(s.Columns))
		for key, value := range object {
			switch value.(type) {
			case nil, float64, bool, string:
				row[position[key]] = value
			default:
				return nil, badSample("%s, row %d: %q is no number, text, boolean or null", name, len(s.Rows)+1, key)
			}
		}
		s.Rows = append(s.Rows, row)
	}
	for i, row := range s.Rows { // rows before a late column lack it
		s.Rows[i] = append(row, make([]any, len(s.Columns)-len(row))...)
	}
	return s, s.checkColumns(name)
}

// firstByte peeks at the first byte that is no white space.
func firstByte(r *bufio.Reader) (byte, error) {
	for {
		b, err := r.Peek(1)
		if err != nil {
			return 0, err
		}
		if !strings.ContainsRune(" \t\r\n", rune(b[0])) {
			return b[0], nil
		}
		if _, err := r.Discard(1); err != nil {
			return 0, err
		}
	}
}

func (s *Sample) checkColumns(name string) error {
	seen := map[string]bool{}
	for i, c := range s.Columns {
		if c == "" {
			return badSample("%s: column %d has no name", name, i+1)
		}
		if seen[c] {
			return badSample("%s: two columns are named %q", name, c)
		}
		seen[c] = true
	}
	return nil
}

// Signature reads the signature off the sample. The columns named in targets are the
// outputs, all others the inputs; units name the unit of some columns.
func (s *Sample) Signature(targets []string, units map[string]string) (*Signature, error) {
	for _, name := range targets {
		if !slices.Contains(s.Columns, name) {
			return nil, fault.New(fault.Invalid, "sample.no_target", "the sample has no column %q", name).In("target").
				Do("it has %s", strings.Join(s.Columns, ", "))
		}
	}
	for _, name := range sortedKeys(units) {
		if !slices.Contains(s.Columns, name) {
			return nil, fault.New(fault.Invalid, "sample.no_column", "a unit is given for %q, which the sample does not have", name).In("unit").
				Do("it has %s", strings.Join(s.Columns, ", "))
		}
	}
	sig := &Signature{Inputs: []Column{}, Outputs: []Column{}}
	for i, name := range s.Columns {
		col, err := s.column(i)
		if err != nil {
			return nil, err
		}
		col.Unit = units[name]
		if slices.Contains(targets, name) {
			sig.Outputs = append(sig.Outputs, col)
		} else {
			sig.Inputs = append(sig.Inputs, col)
		}
	}
	return sig, nil
}

func (s *Sample) column(i int) (Column, error) {
	c := Column{Name: s.Columns[i]}
	var numbers []float64
	var texts []string
	booleans := 0
	for _, row := range s.Rows {
		switch v := row[i].(type) {
		case nil:
			c.Nullable = true
		case float64:
			numbers = append(numbers, v)
		case bool:
			booleans++
		case string:
			texts = append(texts, v)
		}
	}
	kinds := 0
	for _, n := range []int{len(numbers), len(texts), booleans} {
		if n > 0 {
			kinds++
		}
	}
	switch {
	case kinds == 0:
		return c, badSample("column %q has no value in any row", c.Name)
	case kinds > 1:
		return c, badSample("column %q mixes %d numbers, %d texts and %d booleans", c.Name, len(numbers), len(texts), booleans)
	case booleans > 0:
		c.Type = Boolean
	case len(texts) > 0:
		c.Type = Text
		if b := sketch.TopLevels(texts, sketch.MostLevels+1); len(b.Levels) <= sketch.MostLevels {
			c.Levels = b.Levels
		}
	default:
		c.Type = Integer
		if slices.ContainsFunc(numbers, func(x float64) bool { return x != math.Trunc(x) }) {
			c.Type = Number
		}
		low, high := slices.Min(numbers), slices.Max(numbers)
		c.Min, c.Max = &low, &high
	}
	return c, nil
}

// Profile is the reference profile of the sample, or nil when it has too few rows to
// be one.
func (s *Sample) Profile() *Profile {
	if len(s.Rows) < leastProfileRows {
		return nil
	}
	p := &Profile{Rows: len(s.Rows), Columns: map[string]*sketch.Column{}}
	for i, name := range s.Columns {
		values := make([]any, len(s.Rows))
		for j, row := range s.Rows {
			values[j] = row[i]
		}
		p.Columns[name] = sketch.ColumnOfValues(sketch.BinsOfValues(values), values)
	}
	return p
}
