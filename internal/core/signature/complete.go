package signature

import "slices"

// Completed is the signature with the ranges, levels and units of rows that were seen, where it
// does not say its own.
func (s *Signature) Completed(seen *Signature) *Signature {
	if seen == nil {
		return s
	}
	known := map[string]Column{}
	for _, c := range slices.Concat(seen.Inputs, seen.Outputs) {
		known[c.Name] = c
	}
	return &Signature{Inputs: completed(s.Inputs, known), Outputs: completed(s.Outputs, known)}
}

func completed(columns []Column, known map[string]Column) []Column {
	out := slices.Clone(columns)
	if out == nil {
		out = []Column{}
	}
	for i := range out {
		c := &out[i]
		k, there := known[c.Name]
		if !there || (k.Type != c.Type && !(c.Type == Number && k.Type == Integer)) {
			continue
		}
		if c.Min == nil && c.Max == nil {
			c.Min, c.Max = k.Min, k.Max
		}
		if len(c.Levels) == 0 {
			c.Levels = k.Levels
		}
		if c.Unit == "" {
			c.Unit = k.Unit
		}
		c.Nullable = c.Nullable || k.Nullable
	}
	return out
}

// Told is the signature of rows that were seen, made exact by what the file of the model
// declares: a side all of whose declared columns are among the rows is as the file says, completed
// by the rows. A file that calls its columns otherwise tells nothing of them.
func (s *Signature) Told(file *Signature) *Signature {
	if file == nil {
		return s
	}
	whole := file.Completed(s)
	side := func(rows, declared []Column) []Column {
		if len(declared) == 0 || slices.ContainsFunc(declared, func(c Column) bool {
			return !slices.Contains(Names(rows), c.Name)
		}) {
			return rows
		}
		return declared
	}
	return &Signature{Inputs: side(s.Inputs, whole.Inputs), Outputs: side(s.Outputs, whole.Outputs)}
}
